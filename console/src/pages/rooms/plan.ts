import type { Workstation } from "../../api/client";

/** A place in a room, counted from 1. */
export interface Place {
  row: number;
  seat: number;
}

/** How many rows, and seats in a row, a plan has at the most. */
export const most = 60;

const number = (text?: string) => (text && /^\d{1,2}$/.test(text) && Number(text) >= 1 && Number(text) <= most ? Number(text) : undefined);

/** Where a workstation stands, by its fields; nothing if nobody has said. */
export function placeOf(w: Workstation): Place | undefined {
  const row = number(w.fields.row);
  const seat = number(w.fields.seat);
  return row && seat ? { row, seat } : undefined;
}

const key = (p: Place) => `${p.row}/${p.seat}`;

export interface Plan {
  rows: number;
  seats: number;
  /** Who stands where; of several at one place, who comes first. */
  at: (place: Place) => Workstation | undefined;
  /** Who has no place, or shares it with somebody before. */
  elsewhere: Workstation[];
}

/** Lays out a room. */
export function planOf(all: Workstation[]): Plan {
  const placed = new Map<string, Workstation>();
  const elsewhere: Workstation[] = [];
  let rows = 0;
  let seats = 0;
  for (const w of all) {
    const place = placeOf(w);
    if (!place || placed.has(key(place))) {
      elsewhere.push(w);
      continue;
    }
    placed.set(key(place), w);
    rows = Math.max(rows, place.row);
    seats = Math.max(seats, place.seat);
  }
  return { rows, seats, at: (place) => placed.get(key(place)), elsewhere };
}

/** Places for those that have none: row by row, behind those that are there. */
export function inOrder(plan: Plan, seats: number): Map<Workstation, Place> {
  const places = new Map<Workstation, Place>();
  let next = 0;
  for (const w of plan.elsewhere) {
    const place = { row: plan.rows + 1 + Math.floor(next / seats), seat: (next % seats) + 1 };
    if (place.row > most) break;
    places.set(w, place);
    next++;
  }
  return places;
}
