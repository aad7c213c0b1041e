import { vi } from "vitest";

export interface Sent {
  url: string;
  method: string;
  headers: Headers;
  body: unknown;
}

/** A server whose answers are given by hand: what was asked, and a way to answer it. */
export class HandServer {
  readonly asked: Sent[] = [];
  readonly givenUp: string[] = [];
  private waiting = new Map<string, { answer: (r: Response) => void; fail: () => void }>();

  constructor() {
    vi.stubGlobal("fetch", (what: string | Request, init: RequestInit = {}) => this.take(what, init));
  }

  /** Addresses that wait for an answer. */
  get open(): string[] {
    return [...this.waiting.keys()];
  }

  /** What was asked since this was last looked at: end of the address and body. */
  sent(prefix = ""): [string, unknown][] {
    return this.asked.splice(0).map((one) => [one.url.replace(prefix, ""), one.body]);
  }

  async answer(url: string, body?: unknown, status = 200): Promise<void> {
    await vi.waitFor(() => {
      if (!this.waiting.has(url)) throw new Error(`${url} was not asked for; open: ${this.open.join()}`);
    });
    const { answer } = this.waiting.get(url)!;
    this.waiting.delete(url);
    answer(new Response(status === 204 ? null : JSON.stringify(body ?? null), { status }));
    await settled();
  }

  async silence(url: string): Promise<void> {
    await vi.waitFor(() => this.waiting.has(url) || Promise.reject(new Error(`${url} was not asked for`)));
    const { fail } = this.waiting.get(url)!;
    this.waiting.delete(url);
    fail();
    await settled();
  }

  private async take(what: string | Request, init: RequestInit): Promise<Response> {
    const whole = typeof what === "string" ? what : what.url;
    const url = whole.replace(location.origin, "").replace(/^https?:\/\/[^/]+/, "");
    const text = typeof what === "string" ? String(init.body ?? "") : await what.clone().text();
    this.asked.push({
      url,
      method: typeof what === "string" ? (init.method ?? "GET") : what.method,
      headers: typeof what === "string" ? new Headers() : what.headers,
      body: text ? JSON.parse(text) : null,
    });
    return new Promise((resolve, reject) => {
      this.waiting.set(url, { answer: resolve, fail: () => reject(new TypeError("no answer")) });
      init.signal?.addEventListener("abort", () => {
        this.waiting.delete(url);
        this.givenUp.push(url);
        reject(new Error("aborted"));
      });
    });
  }
}

/** Let everything that is ready to go on do so. */
export const settled = () => new Promise((done) => setTimeout(done, 3));
