import { useEffect, useSyncExternalStore } from "react";

/** Deliveries whose workstations are on screen, with how many places show them. */
const shown = new Map<number, number>();
const told = new Set<() => void>();
let list = "";

function change(delivery: number, by: number) {
  const n = (shown.get(delivery) ?? 0) + by;
  if (n > 0) shown.set(delivery, n);
  else shown.delete(delivery);
  list = [...shown.keys()].sort((a, b) => b - a).join(",");
  for (const tell of told) tell();
}

/** Says that the workstations of a delivery are on screen, so that the service tells of them. */
export function useWatch(delivery: number) {
  useEffect(() => {
    change(delivery, 1);
    return () => change(delivery, -1);
  }, [delivery]);
}

/** The deliveries that are watched, with commas between. */
export function useWatched(): string {
  return useSyncExternalStore(
    (tell) => {
      told.add(tell);
      return () => told.delete(tell);
    },
    () => list,
  );
}
