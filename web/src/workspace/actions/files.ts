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

export interface Content {
  name: string;
  text: string;
  data: string;
}

/** A file for the API: its text, or base64 where it is no text. */
export function pickContent(accept: string, take: (file: Content) => void): void {
  pickFile(accept, (file) => {
    if (!/\.(glb|zip|usd[acz]?|mkv|mov|mp4|webm)$/i.test(file.name)) {
      void file.text().then((text) => take({ name: file.name, text, data: "" }));
      return;
    }
    const reader = new FileReader();
    reader.onload = () =>
      take({ name: file.name, text: "", data: String(reader.result).split(",")[1] ?? "" });
    reader.readAsDataURL(file);
  });
}
