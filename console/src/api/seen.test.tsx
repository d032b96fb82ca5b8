import { QueryClient } from "@tanstack/react-query";
import { renderHook } from "@testing-library/react";
import { expect, test, vi } from "vitest";
import { house } from "../test/house";
import { hear, useSeen } from "./seen";

const answer = (line: number) => hear(new Response(null, { headers: { "Logbook-Line": String(line) } }));

test("a form knows as much as the list that it was opened from", () => {
  vi.useFakeTimers();
  const queries = new QueryClient();
  answer(7);
  const observer = queries.getQueryCache().build(queries, { queryKey: ["people"], queryFn: () => 1 });
  observer.isActive = () => true;
  queries.setQueryData(["people"], 1);
  vi.advanceTimersByTime(1000);
  answer(9); // of something else
  const { result } = renderHook(() => useSeen(["people"]), { wrapper: house("/", queries) });
  expect(result.current.headers).toEqual({ "Unchanged-Since-Line": "7" });
  const other = renderHook(() => useSeen(["roles"]), { wrapper: house("/", queries) });
  expect(other.result.current.headers).toEqual({ "Unchanged-Since-Line": "9" });
  vi.useRealTimers();
});
