import { useSearchParams } from "react-router";

/** A part of the page's address, so that a link to the page leads to what is on screen; nothing is not in it. */
export function useParam(name: string): [string | undefined, (to?: string) => void] {
  const [params, setParams] = useSearchParams();
  return [params.get(name) ?? undefined, (to) => setParams((before) => changed(before, { [name]: to }), { replace: true })];
}

/** The same, of which there are just a few; the first is what nothing means. */
export function useOneOf<T extends string>(name: string, all: readonly [T, ...T[]]): [T, (to: T) => void] {
  const [value, setValue] = useParam(name);
  return [all.find((one) => one === value) ?? all[0], (to) => setValue(to === all[0] ? undefined : to)];
}

/** An address with some parts that are other than before. */
export function changed(before: URLSearchParams, to: Record<string, string | undefined>) {
  const after = new URLSearchParams(before);
  for (const [name, value] of Object.entries(to)) {
    if (value) after.set(name, value);
    else after.delete(name);
  }
  return after;
}
