import { useEffect, useState } from "react";

/** A browser has six connections to a server: pictures that are made as they are asked for must not take them all. */
const AT_ONCE = 2;

class Turns {
  private free = AT_ONCE;
  private waiting: (() => void)[] = [];

  /** Wait for a turn; the answer gives it back. */
  async take(): Promise<() => void> {
    if (this.free > 0) this.free--;
    else await new Promise<void>((go) => this.waiting.push(go));
    let given = false;
    return () => {
      if (given) return;
      given = true;
      const next = this.waiting.shift();
      if (next) next();
      else this.free++;
    };
  }
}

const turns = new Turns();

/** A picture that may take the server a while; others wait for it, and the rest of the page does not. */
export function SlowImage({ src, className, missing }: { src: string; className: string; missing: string }) {
  const [shown, setShown] = useState<{ src: string; url: string | null } | null>(null);
  useEffect(() => {
    const stopper = new AbortController();
    let made: string | null = null;
    void (async () => {
      const giveBack = await turns.take();
      try {
        if (stopper.signal.aborted) return;
        const answer = await fetch(src, { signal: stopper.signal });
        if (answer.ok) made = URL.createObjectURL(await answer.blob());
        if (!stopper.signal.aborted) setShown({ src, url: made });
        else if (made) URL.revokeObjectURL(made);
      } catch {
        if (!stopper.signal.aborted) setShown({ src, url: null });
      } finally {
        giveBack();
      }
    })();
    return () => {
      stopper.abort();
      if (made) URL.revokeObjectURL(made);
    };
  }, [src]);
  if (shown?.src !== src) return <span hidden data-waiting />;
  return shown.url ? <img src={shown.url} alt="" className={className} /> : <span>{missing}</span>;
}
