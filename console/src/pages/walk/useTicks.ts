import { useState } from "react";

/** What somebody has checked off on a walk through a room: this browser keeps it until the walk is begun anew. */
export function useTicks(room: string): { has: (id: number) => boolean; toggle: (id: number) => void; clear: () => void } {
  const place = `walk through ${room}`;
  const [ids, setIds] = useState<number[]>(() => {
    try {
      const kept: unknown = JSON.parse(localStorage.getItem(place) ?? "[]");
      return Array.isArray(kept) ? kept.map(Number) : [];
    } catch {
      return []; // kept by nobody who knew how
    }
  });
  const keep = (next: number[]) => {
    setIds(next);
    try {
      localStorage.setItem(place, JSON.stringify(next));
    } catch {
      // the browser keeps nothing: it is so until the page is left
    }
  };
  return { has: (id) => ids.includes(id), toggle: (id) => keep(ids.includes(id) ? ids.filter((one) => one !== id) : [...ids, id]), clear: () => keep([]) };
}
