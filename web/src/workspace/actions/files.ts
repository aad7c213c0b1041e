/** Read a file that the creator picks and hand its text on. */
export function pickText(accept: string, take: (name: string, text: string) => void): void {
  const input = document.createElement("input");
  input.type = "file";
  input.accept = accept;
  input.onchange = () => {
    const file = input.files?.[0];
    if (file) void file.text().then((text) => take(file.name, text));
  };
  input.click();
}
