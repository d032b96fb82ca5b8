import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Input, type InputRef, Modal, theme, Typography } from "antd";
import { type KeyboardEvent, useDeferredValue, useEffect, useId, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { ask, client } from "../api/client";

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
  const [workstations, groups, images, orders] = await Promise.all([
    seen(ask(client.GET("/workstations", { params: { query: { ...query, sort: "name", state: ["admitted", "expected", "retired"] } } }))),
    seen(ask(client.GET("/groups", { params: { query } }))),
    seen(ask(client.GET("/images", { params: { query } }))),
    seen(ask(client.GET("/orders", { params: { query } }))),
  ]);
  const number = /^\d+$/.test(text) ? [{ kind: "delivery", name: `No. ${text}`, to: `/deliveries/${text}` }] : [];
  return [
    ...number,
    ...workstations.items.map((w) => ({ kind: "workstation", name: w.name, to: `/workstations/${w.name}` })),
    ...groups.items.map((g) => ({ kind: "room", name: g.name, to: `/rooms/${g.name}` })),
    ...images.items.map((v) => ({ kind: "image", name: v.image, to: `/images/${v.image}` })),
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
  const { token } = theme.useToken();
  const id = useId();
  const field = useRef<InputRef>(null);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const sought = useDeferredValue(text.trim());
  const query = useQuery({ queryKey: ["palette", sought], queryFn: () => find(sought), enabled: sought !== "", placeholderData: keepPreviousData });
  const places = [...pages.filter((p) => p.name.toLowerCase().includes(sought.toLowerCase())), ...(sought ? (query.data ?? []) : [])];
  const here = Math.min(at, places.length - 1);
  useEffect(() => {
    field.current?.focus();
  }, []);
  useEffect(() => {
    document.getElementById(`${id}-${here}`)?.scrollIntoView({ block: "nearest" });
  }, [id, here]);
  const enter = (place?: Place) => {
    if (!place) return;
    close();
    void go(place.to);
  };
  const press = (e: KeyboardEvent) => {
    const step = { ArrowDown: 1, ArrowUp: -1 }[e.key];
    if (step) setAt((here + step + places.length) % Math.max(1, places.length));
    else if (e.key === "Enter") enter(places[here]);
    else return;
    e.preventDefault();
  };
  return (
    <>
      <Input
        ref={field}
        role="combobox"
        aria-label="Name of a page, workstation, room, image, order or delivery"
        aria-expanded
        aria-controls={id}
        aria-activedescendant={places.length ? `${id}-${here}` : undefined}
        placeholder="Page, workstation, room, image, order, number of a delivery"
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
        }}
        onKeyDown={press}
      />
      <div id={id} role="listbox" aria-label="What is called so" style={{ maxHeight: 380, overflow: "auto", marginTop: 12 }}>
        {places.map((p, i) => (
          <div key={p.to} id={`${id}-${i}`} role="option" aria-selected={i === here} style={{ display: "flex", justifyContent: "space-between", padding: "6px 10px", cursor: "pointer", background: i === here ? token.colorFillSecondary : undefined }} onMouseMove={() => setAt(i)} onClick={() => enter(p)}>
            <span>{p.name}</span>
            <Typography.Text type="secondary">{p.kind}</Typography.Text>
          </div>
        ))}
      </div>
      {places.length === 0 && !query.isFetching && <Typography.Text type="secondary">Nothing is called so.</Typography.Text>}
    </>
  );
}
