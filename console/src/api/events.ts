import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import type { Delivery, Errand, Workstation } from "./client";

interface Page {
  items: { id?: number }[];
  total: number;
}

/** Puts the new state of a thing into every list that shows it; where it is new, the lists are fetched again. */
function place(queries: QueryClient, list: string, thing: { id: number }, stays: (old: unknown) => boolean) {
  let found = false;
  queries.setQueriesData<Page>({ queryKey: [list] }, (page) => {
    const at = page?.items.findIndex((i) => i.id === thing.id) ?? -1;
    if (!page || at < 0) return page;
    found = stays(page.items[at]);
    const items = page.items.slice();
    items[at] = { ...items[at], ...thing };
    return { ...page, items };
  });
  if (!found) void queries.invalidateQueries({ queryKey: [list] });
}

const listeners: Record<string, (queries: QueryClient, data: never) => void> = {
  workstation: (queries, w: Workstation) =>
    place(queries, "workstations", w, (old) => (old as Workstation).state === w.state),
  delivery: (queries, d: Delivery) => {
    queries.setQueryData(["delivery", d.id], d);
    place(queries, "deliveries", d, (old) => (old as Delivery).state === d.state);
  },
  errand: (queries, e: Errand) => queries.setQueryData(["errand", e.id], e),
  image: (queries) => {
    void queries.invalidateQueries({ queryKey: ["images"] });
    void queries.invalidateQueries({ queryKey: ["versions"] });
  },
  receipt: (queries) => void queries.invalidateQueries({ queryKey: ["receipts"] }),
  boot: (queries) => {
    void queries.invalidateQueries({ queryKey: ["netboot"] });
    void queries.invalidateQueries({ queryKey: ["builds"] });
  },
  drivers: (queries) => {
    for (const list of ["drivers", "driver-sets", "coverage"]) void queries.invalidateQueries({ queryKey: [list] });
  },
  resync: (queries) => void queries.invalidateQueries(),
};

/** Keeps everything on screen current through the service's events; tells whether the line stands. */
export function useEvents(): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    let lost = false;
    source.addEventListener("hello", () => {
      setLive(true);
      if (lost) void queries.invalidateQueries(); // what happened meanwhile was missed
      lost = false;
    });
    source.onerror = () => {
      lost = true;
      setLive(false);
    };
    for (const [kind, listen] of Object.entries(listeners)) {
      source.addEventListener(kind, (event) => listen(queries, JSON.parse((event as MessageEvent).data) as never));
    }
    return () => source.close();
  }, [queries]);
  return live;
}
