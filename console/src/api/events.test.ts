import { QueryClient } from "@tanstack/react-query";
import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { workstation } from "../test/workstation";
import type { Workstation } from "./client";
import { Placer, Refresher } from "./events";

beforeEach(() => void vi.useFakeTimers());
afterEach(() => void vi.useRealTimers());

const same = (old: unknown) => (old as Workstation).state === "admitted";

function lists() {
  const queries = new QueryClient();
  const fetched = vi.spyOn(queries, "invalidateQueries");
  queries.setQueryData(["workstations", "page"], { items: [workstation(1), workstation(2)], total: 2 });
  queries.setQueryData(["workstations", "whole"], { pages: [{ items: [workstation(1)], total: 2 }, { items: [workstation(2)], total: 2 }], pageParams: [0, 1] });
  return { queries, fetched, placer: new Placer(queries, new Refresher(queries)) };
}

test("a thousand new states are drawn once, in lists that come by pages and in those that are whole", () => {
  const { queries, fetched, placer } = lists();
  const drawn = vi.fn();
  queries.getQueryCache().subscribe((e) => e.type === "updated" && drawn());
  for (let n = 0; n < 1000; n++) placer.place("workstations", workstation(2, { activity: `step ${n}` }), same);
  expect(drawn).not.toHaveBeenCalled();
  vi.advanceTimersByTime(250);
  expect(drawn).toHaveBeenCalledTimes(2); // once for each list
  const page = queries.getQueryData<{ items: Workstation[] }>(["workstations", "page"])!;
  expect(page.items.map((w) => w.activity)).toEqual(["", "step 999"]);
  const whole = queries.getQueryData<{ pages: { items: Workstation[] }[] }>(["workstations", "whole"])!;
  expect(whole.pages[1].items[0].activity).toBe("step 999");
  vi.advanceTimersByTime(5000);
  expect(fetched).not.toHaveBeenCalled();
});

test("who is new, or something else now, has the lists fetched again, once", () => {
  const { fetched, placer } = lists();
  placer.place("workstations", workstation(3), same);
  placer.place("workstations", workstation(1, { state: "retired" }), () => false);
  vi.advanceTimersByTime(3000);
  expect(fetched.mock.calls.map(([f]) => f?.queryKey)).toEqual([["workstations"], ["logbook"]]);
});
