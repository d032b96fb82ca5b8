import { App, Button, Card, Checkbox, Empty, Flex, InputNumber, theme, Typography } from "antd";
import { type DragEvent, useMemo, useRef, useState } from "react";
import { Link, useParams } from "react-router";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useWhole } from "../../api/useList";
import { Acts } from "../../parts/acts/Acts";
import { PageTitle } from "../../parts/PageTitle";
import { Failure } from "../../parts/Shown";
import { Desk } from "./Desk";
import { inOrder, type Place, placeOf, planOf } from "./plan";
import { touches, useBand } from "./useBand";

/** A group as a plan of its desks: how each is, what is done to those that are chosen, and where they stand. */
export function Room() {
  const { room = "" } = useParams();
  const { token } = theme.useToken();
  const { message } = App.useApp();
  const [ids, setIds] = useState<ReadonlySet<number>>(new Set());
  const [arranging, setArranging] = useState(false);
  const [held, setHeld] = useState<Workstation>();
  const [perRow, setPerRow] = useState(6);
  const desks = useRef(new Map<number, HTMLButtonElement>());
  const list = useWhole<Workstation>(["workstations", "room", room], (query) => ask(client.GET("/workstations", { params: { query: { ...query, sort: "name", group: room, state: ["expected", "admitted"] } } })));
  const plan = useMemo(() => planOf(list.items), [list.items]);
  const chosen = list.items.filter((w) => ids.has(w.id));

  const put = useChange(
    async (all: Map<Workstation, Place | undefined>) => {
      for (const [w, place] of all)
        await ask(client.PUT("/workstations/{workstation}/fields", { params: { path: { workstation: w.name } }, body: { fields: { row: String(place?.row ?? ""), seat: String(place?.seat ?? "") } } }));
    },
    ["workstations"],
  );
  const placed = (w: Workstation) => (plan.elsewhere.includes(w) ? undefined : placeOf(w));
  /** Puts a workstation to a place, and whoever stands there to where it was. */
  const move = (w: Workstation, to: Place) => {
    const there = plan.at(to);
    setHeld(undefined);
    if (there?.id !== w.id) put.mutate(new Map([[w, to], ...(there ? ([[there, placed(w)]] as const) : [])]));
  };
  const band = useBand((box, more) => {
    const inside = list.items.filter((w) => {
      const desk = desks.current.get(w.id)?.getBoundingClientRect();
      return desk && touches(box, desk);
    });
    setIds(new Set([...(more ? ids : []), ...inside.map((w) => w.id)]));
  });
  const toggle = (w: Workstation) => {
    const next = new Set(ids);
    if (!next.delete(w.id)) next.add(w.id);
    setIds(next);
  };
  const desk = (w: Workstation) => (
    <Desk
      key={w.id}
      ref={(e) => {
        if (e) desks.current.set(w.id, e);
        else desks.current.delete(w.id);
      }}
      workstation={w}
      chosen={!arranging && ids.has(w.id)}
      held={held?.id === w.id}
      press={() => {
        if (!arranging) toggle(w);
        else if (!held) setHeld(w);
        else if (held.id === w.id) setHeld(undefined);
        else if (placed(w)) move(held, placed(w)!);
        else setHeld(w);
      }}
      drag={arranging ? (e: DragEvent) => e.dataTransfer.setData("text/plain", w.name) : undefined}
    />
  );
  const free = (place: Place) =>
    arranging && (
      <button
        type="button"
        aria-label={`Row ${place.row}, seat ${place.seat}: nobody`}
        disabled={!held}
        onClick={() => held && move(held, place)}
        style={{ width: "100%", height: "100%", minHeight: 78, border: `1px dashed ${token.colorBorder}`, borderRadius: token.borderRadius, background: "transparent", cursor: held ? "copy" : "default" }}
      />
    );
  const drop = (place: Place) =>
    arranging && {
      onDragOver: (e: DragEvent) => e.preventDefault(),
      onDrop: (e: DragEvent) => {
        e.preventDefault();
        const w = list.items.find((one) => one.name === e.dataTransfer.getData("text/plain"));
        if (w) move(w, place);
      },
    };
  const rows = plan.rows + (arranging ? 1 : 0);
  const seats = plan.seats + (arranging ? 1 : 0);
  const everyone = list.items.length > 0 && chosen.length === list.items.length;
  return (
    <>
      <PageTitle title={room}>
        <Link to={`/workstations?group=${encodeURIComponent(room)}`}>As a list</Link>
        <Link to={`/walk?room=${encodeURIComponent(room)}`}>Walk</Link>
        <Link to="/rooms">All rooms</Link>
        {!arranging && chosen.length > 0 && (
          <>
            <Typography.Text type="secondary">{`${chosen.length} chosen`}</Typography.Text>
            <Acts chosen={chosen} size="middle" />
          </>
        )}
        {!arranging && (
          <Checkbox checked={everyone} indeterminate={chosen.length > 0 && !everyone} onChange={() => setIds(new Set(everyone ? [] : list.items.map((w) => w.id)))}>
            All
          </Checkbox>
        )}
        <Button
          type={arranging ? "primary" : "default"}
          onClick={() => {
            setArranging(!arranging);
            setHeld(undefined);
          }}
        >
          {arranging ? "Done" : "Arrange the desks"}
        </Button>
      </PageTitle>
      {list.isError && <Failure error={list.error!} />}
      {arranging && <Typography.Paragraph>{held ? `Where does ${held.name} stand? Choose a place, or somebody to change places with.` : "Drag a desk to its place, or choose it and then the place. A table can say it, too: by its columns row and seat."}</Typography.Paragraph>}
      <div {...band.handlers} style={{ userSelect: "none" }}>
        {rows > 0 && seats > 0 && (
          <div role="group" aria-label="Desks" style={{ display: "grid", gridTemplateColumns: `repeat(${seats}, minmax(132px, 1fr))`, gap: 14, overflowX: "auto", padding: 16, background: token.colorBgContainer, borderRadius: token.borderRadius }}>
            {Array.from({ length: rows * seats }, (_, i) => {
              const place = { row: Math.floor(i / seats) + 1, seat: (i % seats) + 1 };
              const w = plan.at(place);
              return (
                <div key={i} {...drop(place)}>
                  {w ? desk(w) : free(place)}
                </div>
              );
            })}
          </div>
        )}
        {plan.elsewhere.length > 0 && (
          <Card
            size="small"
            title={plan.rows > 0 ? "Without a place" : "Nobody has said where they stand"}
            extra={
              arranging && (
                <Flex gap={8} align="center">
                  <InputNumber aria-label="Desks in a row" min={1} max={60} value={perRow} onChange={(n) => setPerRow(n ?? 6)} suffix="in a row" style={{ width: 130 }} />
                  <Button
                    loading={put.isPending}
                    onClick={() => {
                      const places = inOrder(plan, perRow);
                      put.mutate(places, { onSuccess: () => void message.success(`${places.size} have a place now.`) });
                    }}
                  >
                    Place them in order
                  </Button>
                </Flex>
              )
            }
            style={{ marginTop: plan.rows > 0 ? 16 : 0 }}
          >
            <div style={{ display: "grid", gridTemplateColumns: "repeat(auto-fill, minmax(132px, 1fr))", gap: 14 }}>{plan.elsewhere.map(desk)}</div>
          </Card>
        )}
        {!list.isPending && list.items.length === 0 && <Empty description="Nobody is in this group." />}
      </div>
      {band.box && <div style={{ position: "fixed", pointerEvents: "none", border: `1px solid ${token.colorPrimary}`, background: token.colorPrimary, opacity: 0.25, ...band.box }} />}
    </>
  );
}
