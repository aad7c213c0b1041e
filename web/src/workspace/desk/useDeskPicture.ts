import { useEffect, useState } from "react";
import { clipUrl, frameUrl } from "~/workspace/viewer/frames";

/** The frame at the desk as the server paints it: the last one that has arrived, and whether a newer one is on its way. */
export function useDeskPicture(
  shot: string,
  picture: string,
  treatment: string,
  frame: number,
  asset: string,
) {
  const url = frameUrl({ shot, picture, view: `desk-${treatment}`, percent: 100, filmed: false }, frame);
  const [shown, setShown] = useState<{ url: string; bitmap: ImageBitmap } | null>(null);
  const [filmed, setFilmed] = useState<ImageBitmap | null>(null);
  const [problem, setProblem] = useState("");

  useEffect(() => {
    const gone = new AbortController();
    setProblem("");
    fetchBitmap(url, gone.signal)
      .then((bitmap) => setShown({ url, bitmap }))
      .catch((error: unknown) => {
        if (gone.signal.aborted) return;
        setProblem(error instanceof Error ? error.message : String(error));
      });
    return () => gone.abort();
  }, [url]);
  useEffect(() => {
    const gone = new AbortController();
    fetchBitmap(clipUrl(asset, 100, frame), gone.signal)
      .then(setFilmed)
      .catch(() => undefined);
    return () => gone.abort();
  }, [asset, frame]);
  return { shown: shown?.bitmap ?? null, filmed, behind: shown?.url !== url && !problem, problem };
}

async function fetchBitmap(url: string, signal: AbortSignal): Promise<ImageBitmap> {
  const answer = await fetch(url, { signal });
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => null)) as { message?: string } | null;
    throw new Error(problem?.message ?? "This frame could not be opened. Try again.");
  }
  return createImageBitmap(await answer.blob());
}
