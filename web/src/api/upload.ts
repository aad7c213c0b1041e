import { Upload } from "tus-js-client";
import { create } from "zustand";
import { csrf } from "~/api/client";
import { complain } from "~/ui/Notices";

interface Sending {
  name: string;
  sent: number;
  size: number;
  stop: () => void;
}

/** Files on their way in. */
export const useUploads = create<{ list: Record<string, Sending> }>(() => ({ list: {} }));

const drop = (key: string) =>
  useUploads.setState((s) => ({
    list: Object.fromEntries(Object.entries(s.list).filter(([k]) => k !== key)),
  }));

/** Send a file in pieces; a dropped connection goes on where it stopped, even after a reload. */
export function sendFile(file: File, options: { shot?: string; project?: string }): Promise<TakenIn | null> {
  const key = `${file.name}-${file.size}-${Date.now()}`;
  return new Promise((resolve) => {
    let answer: TakenIn | null = null;
    const upload = new Upload(file, {
      endpoint: "/api/uploads",
      chunkSize: 8 * 1024 * 1024,
      retryDelays: [300, 1000, 3000, 5000, 10000],
      removeFingerprintOnSuccess: true,
      metadata: { filename: file.name, ...options },
      onBeforeRequest: (request) => request.setHeader("X-CSRFToken", csrf()),
      onShouldRetry: (error) => {
        const status = error.originalResponse?.getStatus() ?? 0;
        return status === 0 || status >= 500 || status === 409;
      },
      onAfterResponse: (_request, response) => {
        answer = takenIn((name) => response.getHeader(name) ?? null) ?? answer;
      },
      onProgress: (sent) =>
        useUploads.setState((s) => {
          const one = s.list[key];
          return one ? { list: { ...s.list, [key]: { ...one, sent } } } : s;
        }),
      onSuccess: () => {
        void (async () => {
          // All of it has arrived; a server that ended just then takes it in when it is back.
          const known = answer ?? (await whatBecame(upload.url));
          drop(key);
          if (known && "problem" in known) complain(known.problem);
          resolve(known && "digest" in known ? known : null);
        })();
      },
      onError: (error) => {
        drop(key);
        complain(messageOf(error, file.name));
        resolve(null);
      },
    });
    const stop = () => {
      void upload.abort(true);
      drop(key);
      resolve(null);
    };
    useUploads.setState((s) => ({
      list: { ...s.list, [key]: { name: file.name, sent: 0, size: file.size, stop } },
    }));
    void upload.findPreviousUploads().then((earlier) => {
      if (earlier[0]) upload.resumeFromPreviousUpload(earlier[0]);
      upload.start();
    });
  });
}

const ASKS_MS = 700;
const GIVES_UP_MS = 180_000;

/** What a file became: something on the shelf, or work that goes on with it. */
export interface TakenIn {
  digest: string;
  kind: string;
  job: string | null;
}
type Ended = TakenIn | { problem: string };

function takenIn(header: (name: string) => string | null): TakenIn | null {
  const [digest, job] = [header("Plonket-Asset"), header("Plonket-Job")];
  return digest || job ? { digest: digest ?? "", kind: header("Plonket-Kind") ?? "clip", job } : null;
}

/** Ask what became of an upload until the server knows. */
async function whatBecame(url: string | null): Promise<Ended> {
  const until = Date.now() + GIVES_UP_MS;
  while (url && Date.now() < until) {
    const told = await fetch(url, { method: "HEAD", headers: { "Tus-Resumable": "1.0.0" } }).catch(
      () => null,
    );
    const taken = told && takenIn((name) => told.headers.get(name));
    if (taken) return taken;
    const problem = told?.headers.get("Plonket-Problem");
    if (problem) return { problem: decodeURIComponent(problem) };
    if (told?.status === 404) break;
    await new Promise((go) => setTimeout(go, ASKS_MS));
  }
  return {
    problem:
      "The file arrived, but it is not known what became of it. Look on the shelf, or bring it in again.",
  };
}

function messageOf(error: unknown, name: string): string {
  const body = (error as { originalResponse?: { getBody?: () => string } }).originalResponse?.getBody?.();
  try {
    const problem = JSON.parse(body ?? "") as { message?: string };
    if (problem.message) return problem.message;
  } catch {
    // Not a problem of ours: say what is known below.
  }
  return `${name} could not be brought in: the connection was lost. Nothing was changed; try again.`;
}
