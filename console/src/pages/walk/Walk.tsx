import { useQuery } from "@tanstack/react-query";
import { Button, Card, Empty, Flex, Popconfirm, Progress, Switch, theme, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, type Model, type Workstation } from "../../api/client";
import { useWhole } from "../../api/useList";
import { useParam } from "../../api/useParam";
import { percent } from "../../format";
import { GroupSelect } from "../../parts/GroupSelect";
import { modelOf } from "../../parts/model";
import { PageTitle } from "../../parts/PageTitle";
import { Failure } from "../../parts/Shown";
import { signOf } from "../../parts/signOf";
import { useKept } from "../../parts/useKept";
import { leaf } from "../../theme";
import { NewHere } from "./NewHere";

/** For a tablet beside the machines: who has come, who has got stuck, what is pressed at which, and what was done already. */
export function Walk() {
  const [room, setRoom] = useParam("room");
  return (
    <>
      <PageTitle title={room ? `Walk through ${room}` : "Walk"}>
        <GroupSelect size="large" placeholder="Which room?" aria-label="Room" value={room} onChange={setRoom} style={{ width: 240 }} />
        {room && <Link to={`/rooms/${room}`}>As a plan</Link>}
      </PageTitle>
      {room ? <Through key={room} room={room} /> : <Empty description="Choose the room that you walk through." />}
    </>
  );
}

function Through({ room }: { room: string }) {
  const [left, setLeft] = useState(false);
  const [done, setDone] = useKept(`walk through ${room}`); // numbers of workstations, until the walk is begun anew
  const isDone = (w: Workstation) => done.includes(String(w.id));
  const list = useWhole<Workstation>(["workstations", "room", room], (query) => ask(client.GET("/workstations", { params: { query: { ...query, sort: "name", group: room, state: ["expected", "admitted"] } } })));
  const models = useQuery({ queryKey: ["models"], queryFn: () => ask(client.GET("/models", {})) });
  const boots = useQuery({ queryKey: ["netboot"], queryFn: () => ask(client.GET("/netboot", {})) });
  if (list.isError && !list.data) return <Failure error={list.error!} />;
  const count = list.items.filter(isDone).length;
  const shown = list.items.filter((w) => !left || !isDone(w));
  return (
    <Flex vertical gap={12}>
      <NewHere room={room} names={list.items.map((w) => w.name)} models={models.data?.items ?? []} />
      <Flex align="center" gap={16} wrap>
        <Progress aria-label="How many are checked off" percent={percent(count, list.items.length)} format={() => `${count} of ${list.items.length}`} strokeColor={leaf} style={{ flex: 1, minWidth: 240 }} />
        <Flex gap={8} align="center">
          <Switch id="left" checked={left} onChange={setLeft} />
          <label htmlFor="left">just those that are left</label>
        </Flex>
        <Popconfirm title="Begin the walk anew?" description="Nothing is checked off then." okText="Begin anew" onConfirm={() => setDone([])}>
          <Button disabled={count === 0}>Begin anew</Button>
        </Popconfirm>
      </Flex>
      {shown.map((w) => (
        <Stop
          key={w.id}
          workstation={w}
          model={models.data?.items.find((m) => m.model === modelOf(w))}
          stuck={boots.data?.machines.find((m) => w.hardware_addresses.includes(m.hardware_address))?.stuck}
          done={isDone(w)}
          toggle={() => setDone(isDone(w) ? done.filter((id) => id !== String(w.id)) : [...done, String(w.id)])}
        />
      ))}
      {list.items.length === 0 && !list.isPending && <Empty description="Nobody is in this room yet: newcomers appear above." />}
    </Flex>
  );
}

interface StopProps {
  workstation: Workstation;
  model?: Model;
  stuck?: string;
  done: boolean;
  toggle: () => void;
}

/** One machine on the way: what it is, how it is, what to press, and a large button to check it off. */
function Stop({ workstation: w, model, stuck, done, toggle }: StopProps) {
  const { token } = theme.useToken();
  const sign = signOf(w);
  const place = [w.fields.row && `row ${w.fields.row}`, w.fields.seat && `seat ${w.fields.seat}`].filter(Boolean).join(", ");
  return (
    <Card size="small" className="stop" style={{ borderLeft: `5px solid ${token[sign.colour]}`, opacity: done ? 0.75 : 1 }}>
      <Flex gap={16} align="center" justify="space-between">
        <div style={{ minWidth: 0 }}>
          <Flex gap={8} align="baseline" wrap>
            <Link to={`/workstations/${w.name}`} style={{ fontSize: 18, fontWeight: 600 }}>
              {w.name}
            </Link>
            <span>{[place, modelOf(w)].filter(Boolean).join("; ")}</span>
          </Flex>
          <div>{[sign.word, w.image || "no image", w.note].filter(Boolean).join("; ")}</div>
          {stuck && <Typography.Text type="danger">{stuck}</Typography.Text>}
          {model?.boot_key && !w.online && (
            <div>
              boots over the network by <Typography.Text keyboard>{model.boot_key}</Typography.Text>
              {model.needs_adapter && `, with ${model.needs_adapter}`}
            </div>
          )}
        </div>
        <Button size="large" type={done ? "default" : "primary"} aria-pressed={done} aria-label={`${done ? "✓ done" : "Check off"} ${w.name}`} onClick={toggle} style={{ minWidth: 120, height: 56 }}>
          {done ? "✓ done" : "Check off"}
        </Button>
      </Flex>
    </Card>
  );
}
