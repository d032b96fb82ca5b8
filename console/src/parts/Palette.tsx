import { Flex, Modal, Typography } from "antd";
import { useEffect, useState } from "react";
import { useNavigate } from "react-router";
import { ask, client } from "../api/client";
import { modelPath } from "./model";
import { SearchSelect } from "./SearchSelect";

interface Place {
  kind: string;
  name: string;
  to: string;
}

/** How many of each kind are shown. */
const few = 6;

/** Whether somebody is typing into something. */
const typing = (target: EventTarget | null) => target instanceof HTMLElement && (target.isContentEditable || ["INPUT", "TEXTAREA", "SELECT"].includes(target.tagName));

/** Everything of which the name contains a text, and that has a page. */
async function find(text: string): Promise<Place[]> {
  const query = { search: text, limit: few };
  const seen = <T,>(list: Promise<{ items: T[] }>) => list.catch(() => ({ items: [] as T[] })); // what one may not see is not found
  const [workstations, groups, images, orders, models] = await Promise.all([
    seen(ask(client.GET("/workstations", { params: { query: { ...query, sort: "name", state: ["admitted", "expected", "retired"] } } }))),
    seen(ask(client.GET("/groups", { params: { query } }))),
    seen(ask(client.GET("/images", { params: { query } }))),
    seen(ask(client.GET("/orders", { params: { query } }))),
    seen(ask(client.GET("/models", {}))),
  ]);
  const number = /^\d+$/.test(text) ? [{ kind: "delivery", name: `No. ${text}`, to: `/deliveries/${text}` }] : [];
  return [
    ...number,
    ...workstations.items.map((w) => ({ kind: "workstation", name: w.name, to: `/workstations/${w.name}` })),
    ...groups.items.map((g) => ({ kind: "room", name: g.name, to: `/rooms/${g.name}` })),
    ...images.items.map((v) => ({ kind: "image", name: v.image, to: `/images/${v.image}` })),
    ...models.items.filter((m) => m.model.toLowerCase().includes(text.toLowerCase())).slice(0, few).map((m) => ({ kind: "model", name: m.model, to: modelPath(m.model) })),
    ...orders.items.map((o) => ({ kind: "order", name: o.order, to: `/orders?search=${encodeURIComponent(o.order)}` })),
  ];
}

/**
 * Goes to anything by its name: Ctrl and K opens it on every page. A slash goes to the search of the page, or opens this where a page has
 * none.
 */
export function Palette({ pages }: { pages: Place[] }) {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const listen = (e: globalThis.KeyboardEvent) => {
      const busy = typing(e.target) || document.querySelector('[role="dialog"]');
      if ((e.ctrlKey || e.metaKey) && e.key === "k") setOpen(true);
      else if (e.key === "/" && !busy) {
        const search = document.querySelector<HTMLInputElement>('main input[type="search"], main .ant-input-search input');
        if (search) search.focus();
        else setOpen(true);
      } else return;
      e.preventDefault();
    };
    window.addEventListener("keydown", listen);
    return () => window.removeEventListener("keydown", listen);
  }, []);
  return (
    <Modal open={open} destroyOnHidden title="Go to" footer={null} width={560} style={{ top: 60 }} onCancel={() => setOpen(false)}>
      <Finder pages={pages} close={() => setOpen(false)} />
    </Modal>
  );
}

function Finder({ pages, close }: { pages: Place[]; close: () => void }) {
  const go = useNavigate();
  const options = async (text = "") => {
    const found = pages.filter((p) => p.name.toLowerCase().includes(text.toLowerCase()));
    return [...found, ...(text ? await find(text) : [])].map((p) => ({ value: p.to, label: <Named place={p} /> }));
  };
  return (
    <SearchSelect
      name="places"
      find={options}
      autoFocus
      defaultOpen
      placeholder="Page, workstation, room, image, order, number of a delivery"
      listHeight={380}
      style={{ width: "100%" }}
      onSelect={(to) => {
        close();
        void go(String(to));
      }}
    />
  );
}

function Named({ place: p }: { place: Place }) {
  return (
    <Flex justify="space-between">
      <span>{p.name}</span>
      <Typography.Text type="secondary">{p.kind}</Typography.Text>
    </Flex>
  );
}
