import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useWatched } from "./watched";
import { client, type Delivery, type DeliveryMoved, type Errand, type Workstation } from "./client";

interface Page {
  items: { id?: number }[];
  total: number;
}

/** How often one list is fetched again at the most, in milliseconds: a thousand machines may be switched on together. */
const calm = 2000;

/** After how long events are asked for again, if the service has refused them, in milliseconds. */
const patience = 3000;

/** How often the first page is: it asks for everything. */
const overviewCalm = 10_000;

/** Fetches lists again, each not more often than every two seconds. */
export class Refresher {
  private waiting = new Map<string, ReturnType<typeof setTimeout>>();

  constructor(private queries: QueryClient) {}

  again(...lists: string[]) {
    for (const list of [...lists, "overview", "logbook"]) {
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

interface Thing {
  id: number;
}

/** Lists come by pages, or whole (useWhole). */
type Cached = Page | { pages: Page[] };

/** How long new states are gathered before they are drawn, in milliseconds: a thousand machines tell of themselves every second. */
const gathering = 200;

/** Puts the new states of things into every list that shows them, many at a time; where one is new, or is another kind of thing now, the lists are fetched again. */
export class Placer {
  private waiting = new Map<string, Map<number, { thing: Thing; stays: (old: unknown) => boolean }>>();
  private timer?: ReturnType<typeof setTimeout>;

  constructor(
    private queries: QueryClient,
    private refresher: Refresher,
  ) {}

  place(list: string, thing: Thing, stays: (old: unknown) => boolean) {
    const things = this.waiting.get(list) ?? new Map<number, { thing: Thing; stays: typeof stays }>();
    this.waiting.set(list, things.set(thing.id, { thing, stays }));
    this.timer ??= setTimeout(() => this.now(), gathering);
  }

  now() {
    this.timer = undefined;
    for (const [list, things] of this.waiting) {
      const unseen = new Set(things.keys());
      const renew = (page: Page): Page => {
        let changed = false;
        const items = page.items.map((item) => {
          const news = things.get(item.id ?? 0);
          if (!news) return item;
          changed = true;
          if (news.stays(item)) unseen.delete(news.thing.id);
          return { ...item, ...news.thing };
        });
        return changed ? { ...page, items } : page;
      };
      this.queries.setQueriesData<Cached>({ queryKey: [list] }, (cached) => {
        if (!cached || !("pages" in cached)) return cached?.items && renew(cached);
        const pages = cached.pages.map(renew);
        return pages.some((p, i) => p !== cached.pages[i]) ? { ...cached, pages } : cached;
      });
      if (unseen.size > 0) this.refresher.again(list);
    }
    this.waiting.clear();
  }

  end() {
    clearTimeout(this.timer);
  }
}

/** Whether a list on screen has a thing. */
const shows = (queries: QueryClient, list: string, id: number) => queries.getQueriesData<Cached>({ queryKey: [list], type: "active" }).some(([, c]) => c && ("pages" in c ? c.pages : [c]).some((p) => p.items?.some((i) => i.id === id)));

/** Puts what is new of a delivery's workstations beside what is known of the others. */
function merge(d: Delivery, moved: DeliveryMoved): Delivery {
  const news = new Map((moved.members ?? []).map((m) => [m.workstation, m]));
  return {
    ...d,
    members: d.members?.map((m) => ({ ...m, ...news.get(m.workstation), hardware_address: m.hardware_address })),
    changes: [...(d.changes ?? []), ...(moved.changes ?? [])],
  };
}

type Listener = (data: never, queries: QueryClient, refresher: Refresher, placer: Placer) => void;

const listeners: Record<string, Listener> = {
  workstation: (w: Workstation, queries, refresher, placer) => {
    void queries.invalidateQueries({ queryKey: ["workstation", w.name || w.hardware_addresses[0]] });
    const [list, other] = w.state === "newcomer" || w.state === "visiting" ? ["newcomers", "workstations"] : ["workstations", "newcomers"];
    placer.place(list, w, (old) => (old as Workstation).state === w.state && String((old as Workstation).groups) === String(w.groups));
    if (shows(queries, other, w.id)) refresher.again(other);
  },
  delivery: (d: Delivery, queries, _, placer) => {
    queries.setQueryData<Delivery>(["delivery", d.id], (old) => old && { ...d, members: old.members, changes: old.changes });
    if (d.ended) void queries.invalidateQueries({ queryKey: ["delivery", d.id] }); // receipts say what became of its workstations
    placer.place("deliveries", d, (old) => (old as Delivery).state === d.state);
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
  settings: (_, _queries, refresher) => refresher.again("settings", "netboot"),
  told: (_, _queries, refresher) => refresher.again("notification-rules", "messages", "mail-settings"),
  resync: (_, queries) => void queries.invalidateQueries(),
};

/** Keeps everything on screen current through the service's events, the workstations of watched deliveries too; tells whether the line stands. */
export function useEvents(): boolean {
  const watched = useWatched();
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  const [attempt, setAttempt] = useState(0); // another one when the service has said no
  const lost = useRef(false);
  useEffect(() => {
    let again: ReturnType<typeof setTimeout> | undefined;
    const source = new EventSource(watched ? `/api/v1/events?deliveries=${watched}` : "/api/v1/events");
    const refresher = new Refresher(queries);
    const placer = new Placer(queries, refresher);
    source.addEventListener("hello", () => {
      setLive(true);
      if (lost.current) void queries.invalidateQueries(); // what happened meanwhile was missed
      lost.current = false;
    });
    source.onerror = () => {
      lost.current = true;
      setLive(false);
      if (source.readyState !== EventSource.CLOSED) return; // the browser tries again by itself
      again = setTimeout(() => setAttempt((n) => n + 1), patience);
      void client.GET("/groups", { params: { query: { limit: 1 } } }); // which asks for a sign-in, if it is for want of one
    };
    for (const [kind, listen] of Object.entries(listeners)) {
      source.addEventListener(kind, (event) => listen(JSON.parse((event as MessageEvent).data) as never, queries, refresher, placer));
    }
    return () => {
      clearTimeout(again);
      source.close();
      placer.end();
      refresher.end();
    };
  }, [queries, watched, attempt]);
  return live;
}
