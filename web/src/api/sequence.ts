import { Zip, ZipPassThrough } from "fflate";
import { answered, api } from "~/api/client";
import { ask } from "~/ui/Ask";

const PICTURE = /\.(png|jpe?g|tiff?|webp|bmp|exr|heic|heif)$/i;
const CLIP = /\.(mp4|mov|m4v|mkv|webm|avi|mts|m2ts|mpg|mpeg|zip)$/i;

export const isPicture = (file: File) => PICTURE.test(file.name);
/** What a file input takes as footage, in words of the browser. */
export const FOOTAGE =
  "video/*,.mkv,.mov,.mp4,.webm,.avi,.mts,.m2ts,.zip,image/*,.exr,.heic,.heif,.tif,.tiff";

/** Several numbered pictures as one file; null where some are missing and the creator would rather not have them. */
export async function boxedIfWanted(pictures: File[]): Promise<File | null> {
  const names = pictures.map((p) => p.name).sort(new Intl.Collator("en", { numeric: true }).compare);
  const { missing } = await answered(api.POST("/api/pictures/missing", { body: { names } })).catch(() => ({
    missing: "",
  }));
  const wanted =
    !missing ||
    (await ask({
      title: "Pictures are missing",
      text: `Between ${names[0]} and ${names.at(-1)} these are not there: ${missing}. The picture before can stand in for each.`,
      yes: "Hold the one before",
      no: "Don’t bring them in",
    }));
  return wanted ? boxed(pictures) : null;
}

/** Several numbered pictures as one file, as they are: the server puts them in the order of their numbers. */
async function boxed(pictures: File[]): Promise<File> {
  const parts: BlobPart[] = [];
  const zip = new Zip((error, data) => {
    if (error) throw error;
    parts.push(data as BlobPart);
  });
  for (const picture of pictures) {
    const entry = new ZipPassThrough(picture.name);
    zip.add(entry);
    entry.push(new Uint8Array(await picture.arrayBuffer()), true);
  }
  zip.end();
  const name = pictures[0]!.name.replace(/\.[^.]*$/, "").replace(/[\s._-]*\d+$/, "") || "pictures";
  return new File(parts, `${name}.zip`, { type: "application/zip" });
}

/** All files that were dropped, those in folders too. */
export async function dropped(data: DataTransfer): Promise<File[]> {
  const entries = [...data.items].flatMap((item) => item.webkitGetAsEntry() ?? []);
  if (!entries.some((e) => e.isDirectory)) return [...data.files];
  const found = await Promise.all(entries.map(filesOf));
  return found.flat().filter((f) => isPicture(f) || CLIP.test(f.name));
}

async function filesOf(entry: FileSystemEntry): Promise<File[]> {
  if (entry.isFile) return [await new Promise<File>((ok, no) => (entry as FileSystemFileEntry).file(ok, no))];
  const reader = (entry as FileSystemDirectoryEntry).createReader();
  const out: FileSystemEntry[] = [];
  // It tells a hundred at a time.
  for (;;) {
    const some = await new Promise<FileSystemEntry[]>((ok, no) => reader.readEntries(ok, no));
    if (!some.length) break;
    out.push(...some);
  }
  return (await Promise.all(out.filter((e) => e.isFile).map(filesOf))).flat();
}
