import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useWatched } from "./watched";
import type { Delivery, DeliveryMoved, Errand, Workstation } from "./client";

interface Page {
  items: { id?: number }[];
  total: number;
}

/** How often one list is fetched again at the most, in milliseconds: a thousand machines may be switched on together. */
const calm = 2000;

/** How often the first page is: it asks for everything. */
const overviewCalm = 10_000;

/** Fetches lists again, each not more often than every two seconds. */
class Refresher {
  private waiting = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private queries: QueryClient) {}

  again(...lists: string[]) {
    for (const list of [...lists, "overview"]) {
      if (this.waiting.has(list)) continue;
      this.waiting.set(
        list,
        setTimeout(() => {
          this.waiting.delete(list);
          void this.queries.invalidateQueries({ queryKey: [list] });
        }, list === "overview" ? overviewCalm : calm),
      );
    }
  }

  end() {
    for (const timer of this.waiting.values()) clearTimeout(timer);
  }
}

/** Puts the new state of a thing into every list that shows it; where it is new, the lists are fetched again. */
function place(queries: QueryClient, refresher: Refresher, list: string, thing: { id: number }, stays: (old: unknown) => boolean) {
  let found = false;
  queries.setQueriesData<Page>({ queryKey: [list] }, (page) => {
    const at = page?.items?.findIndex((i) => i.id === thing.id) ?? -1;
    if (!page || at < 0) return page;
    found = stays(page.items[at]);
    const items = page.items.slice();
    items[at] = { ...items[at], ...thing };
    return { ...page, items };
  });
  if (!found) refresher.again(list);
}

/** Puts what is new of a delivery's workstations beside what is known of the others. */
function merge(d: Delivery, moved: DeliveryMoved): Delivery {
  const news = new Map((moved.members ?? []).map((m) => [m.workstation, m]));
  return {
    ...d,
    members: d.members?.map((m) => ({ ...m, ...news.get(m.workstation), hardware_address: m.hardware_address })),
    changes: [...(d.changes ?? []), ...(moved.changes ?? [])],
  };
}

type Listener = (data: never, queries: QueryClient, refresher: Refresher) => void;

const listeners: Record<string, Listener> = {
  workstation: (w: Workstation, queries, refresher) => {
    void queries.invalidateQueries({ queryKey: ["workstation", w.id] });
    place(queries, refresher, "workstations", w, (old) => (old as Workstation).state === w.state);
  },
  delivery: (d: Delivery, queries, refresher) => {
    queries.setQueryData<Delivery>(["delivery", d.id], (old) => old && { ...d, members: old.members, changes: old.changes });
    if (d.ended) void queries.invalidateQueries({ queryKey: ["delivery", d.id] }); // receipts say what became of its workstations
    place(queries, refresher, "deliveries", d, (old) => (old as Delivery).state === d.state);
  },
  progress: (moved: DeliveryMoved, queries) => queries.setQueryData<Delivery>(["delivery", moved.delivery], (old) => old && merge(old, moved)),
  errand: (e: Errand, queries, refresher) => {
    queries.setQueryData(["errand", e.id], e);
    refresher.again("errands", "checks");
  },
  run: (_, _queries, refresher) => refresher.again("runs", "orders", "run"),
  image: (_, _queries, refresher) => refresher.again("images", "versions"),
  receipt: (_, _queries, refresher) => refresher.again("receipts"),
  boot: (_, _queries, refresher) => refresher.again("netboot", "builds"),
  entries: (_, _queries, refresher) => refresher.again("boot-entries", "boot-starts"),
  sites: (_, _queries, refresher) => refresher.again("outposts"),
  stores: (_, _queries, refresher) => refresher.again("stores", "images"),
  drivers: (_, _queries, refresher) => refresher.again("drivers", "driver-sets", "coverage"),
  resync: (_, queries) => void queries.invalidateQueries(),
};

/** Keeps everything on screen current through the service's events, the workstations of watched deliveries too; tells whether the line stands. */
export function useEvents(): boolean {
  const watched = useWatched();
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  useEffect(() => {
    const source = new EventSource(watched ? `/api/v1/events?deliveries=${watched}` : "/api/v1/events");
    const refresher = new Refresher(queries);
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
      source.addEventListener(kind, (event) => listen(JSON.parse((event as MessageEvent).data) as never, queries, refresher));
    }
    return () => {
      source.close();
      refresher.end();
    };
  }, [queries, watched]);
  return live;
}
