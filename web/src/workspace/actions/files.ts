/** A file that the creator picks. */
export function pickFile(accept: string, take: (file: File) => void): void {
  const input = document.createElement("input");
  input.type = "file";
  input.accept = accept;
  input.onchange = () => {
    const file = input.files?.[0];
    if (file) take(file);
  };
  input.click();
}

/** The text of a file that the creator picks. */
export function pickText(accept: string, take: (name: string, text: string) => void): void {
  pickFile(accept, (file) => void file.text().then((text) => take(file.name, text)));
}
