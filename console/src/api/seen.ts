import { type QueryClient, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";

/** How long the logbook of the service was, and when that was heard (docs/console.md). */
const heard: { at: number; line: string }[] = [];

/** How many of those are kept. */
const kept = 1000;

/** Takes what an answer says of the logbook. */
export function hear(response: Response) {
  const line = response.headers.get("Logbook-Line");
  if (!line || heard.at(-1)?.line === line) return;
  heard.push({ at: Date.now(), line });
  if (heard.length > kept) heard.shift();
}

/** How long the logbook was at a time; nothing if that is not known. */
const lineAt = (time: number) => heard.findLast((h) => h.at <= time)?.line;

/** When the oldest was fetched of what is on screen from some lists. */
function fetched(queries: QueryClient, lists: string[]) {
  const shown = queries.getQueryCache().findAll({ type: "active", predicate: (q) => lists.includes(String(q.queryKey[0])) });
  return Math.min(Date.now(), ...shown.map((q) => q.state.dataUpdatedAt).filter(Boolean));
}

/** What a change sends along, so that the service refuses it if somebody else was faster than the form that it comes from. */
export interface Seen {
  headers?: { "Unchanged-Since-Line": string };
}

/** How much of what others have done was seen when a form was opened that shows something of these lists. */
export function useSeen(lists: string[]): Seen {
  const queries = useQueryClient();
  const [line] = useState(() => lineAt(fetched(queries, lists)));
  return line ? { headers: { "Unchanged-Since-Line": line } } : {};
}
