import { afterEach, beforeEach, expect, test, vi } from "vitest";
import { ago, left, perSecond, share, size } from "./format";

test("bytes have a digit behind the point where it says something", () => {
  expect([0, 1023, 1024, 1536, 104857600, 1.5 * 2 ** 40].map(size)).toEqual(["0 B", "1,023 B", "1.0 KiB", "1.5 KiB", "100 MiB", "1.5 TiB"]);
});

test("a value of zero is left out", () => {
  expect([perSecond(0), share(0), left(undefined)]).toEqual(["", "", ""]);
  expect([perSecond(11_000_000), share(0.1234), left(3700)]).toEqual(["11 MB/s", "12.3 %", "1 h 1 min"]);
});

beforeEach(() => void vi.useFakeTimers({ now: new Date(2026, 2, 31, 12) }));
afterEach(() => void vi.useRealTimers());

test("how long ago something was", () => {
  const days = (n: number) => new Date(2026, 2, 31 - n, 23, 59).toISOString();
  expect([0, 1, 5, 59, 92, 800].map((n) => ago(days(n)))).toEqual(["today", "yesterday", "5 days ago", "59 days ago", "3 months ago", "2 years ago"]);
});
