import { QueryObserver } from "@tanstack/react-query";
import { expect, test } from "vitest";
import { Cache } from "~/api/cache";

const turns = () => new Promise((done) => setTimeout(done, 0));

/** A list whose answers are held back until they are let go, each as the list was when it was asked for. */
function slowList() {
  const cache = new Cache({ defaultOptions: { queries: { staleTime: 60_000, retry: 1 } } });
  const list: string[] = [];
  const held: (() => void)[] = [];
  const observer = new QueryObserver<string[]>(cache, {
    queryKey: ["list"],
    queryFn: () => {
      const seen = [...list];
      return new Promise((done) => held.push(() => done(seen)));
    },
  });
  const end = observer.subscribe(() => undefined);
  return { cache, list, held, observer, end };
}

test("what changes while it is asked for the first time is asked for anew", async () => {
  const { cache, list, held, observer, end } = slowList();
  await turns();
  expect(held.length).toBe(1);
  list.push("made meanwhile");
  const done = cache.invalidateQueries({ queryKey: ["list"] });
  await turns();
  expect(held.length).toBe(2);
  held.forEach((go) => go());
  await done;
  expect(observer.getCurrentResult().data).toEqual(["made meanwhile"]);
  end();
});

test("what is known stays on the page until the new answer is here", async () => {
  const { cache, list, held, observer, end } = slowList();
  await turns();
  held[0]!();
  await turns();
  expect(observer.getCurrentResult().data).toEqual([]);
  list.push("later");
  const done = cache.invalidateQueries({ queryKey: ["list"] });
  await turns();
  expect(observer.getCurrentResult().data).toEqual([]);
  held[1]!();
  await done;
  expect(observer.getCurrentResult().data).toEqual(["later"]);
  end();
});

test("others that are asked for are left alone", async () => {
  const { cache, held, observer, end } = slowList();
  await turns();
  await cache.invalidateQueries({ queryKey: ["something else"] });
  await turns();
  expect(held.length).toBe(1);
  held[0]!();
  await turns();
  expect(observer.getCurrentResult().data).toEqual([]);
  end();
});
