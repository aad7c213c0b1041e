/** Requests that change a shot or start work on it go out one after another: each finds what the one before has made. */
let line: Promise<unknown> = Promise.resolve();

/** Wait for all that was asked before, then ask. */
export function inLine<T>(run: () => Promise<T>): Promise<T> {
  const next = line.then(run);
  line = next.catch(() => null);
  return next;
}
