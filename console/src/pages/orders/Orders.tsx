import { Button, Card, Flex, Input, Popconfirm, Segmented, Tag, Typography } from "antd";
import { useState } from "react";
import { useLocation } from "react-router";
import { ask, client, type KeptOrder } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { useOneOf } from "../../api/useParam";
import { when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { Outcome } from "../../parts/Outcome";
import { PageTitle } from "../../parts/PageTitle";
import { AddDialog } from "./AddDialog";
import { RunDialog } from "./RunDialog";
import { Runs } from "./Runs";

const views = ["Orders", "History"] as const;

/** Work that was prepared, when it runs by itself, and what it has done. */
export function Orders() {
  const [view, setView] = useOneOf("view", views);
  const chosen = (useLocation().state as { to?: string[] } | null)?.to; // by who came from workstations
  const [adding, setAdding] = useState(!!chosen);
  const [running, setRunning] = useState<KeptOrder>();
  const list = useList<KeptOrder>(["orders"], (query, form) => ask(client.GET("/orders", { params: { query }, ...form })));
  const remove = useChange((k: KeptOrder) => ask(client.DELETE("/orders/{order}", { params: { path: { order: k.order } } })), ["orders"]);
  return (
    <>
      <PageTitle title="Orders">
        <Flex gap={12} align="center">
          <Segmented options={[...views]} value={view} onChange={setView} />
          {view === "Orders" && <Input.Search allowClear placeholder="Order, image or group" defaultValue={list.searched} onSearch={list.search} style={{ width: 240 }} />}
          <Button type="primary" onClick={() => setAdding(true)}>
            Prepare an order…
          </Button>
        </Flex>
      </PageTitle>
      {view === "History" && <Runs />}
      {view === "Orders" && (
        <Card styles={{ body: { padding: 0 } }}>
          <ListTable<KeptOrder>
            name="orders"
            list={list}
            rowKey="order"
            empty="No order was prepared yet. One has what is done again and again: the golden machine each month, a room each week."
            columns={[
              { title: "Order", key: "name", sorter: true, render: (_, k) => <Named order={k} /> },
              { title: "Does", render: (_, k) => <Does order={k} /> },
              { title: "By itself", render: (_, k) => <ByItself order={k} /> },
              { title: "Next", key: "due", sorter: true, width: 180, render: (_, k) => k.next_run && when(k.next_run) },
              { title: "Last", width: 250, render: (_, k) => k.last_run && <Last order={k} /> },
              {
                title: "",
                align: "right",
                width: 170,
                render: (_, k) => (
                  <Flex gap={8} justify="end">
                    <Button size="small" onClick={() => setRunning(k)}>
                      Run…
                    </Button>
                    <Popconfirm title={`Remove ${k.order}?`} description="What it has done stays on record." okText="Remove" onConfirm={() => remove.mutate(k)}>
                      <Button size="small">Remove</Button>
                    </Popconfirm>
                  </Flex>
                ),
              },
            ]}
          />
        </Card>
      )}
      {adding && <AddDialog to={chosen} close={() => setAdding(false)} />}
      {running && <RunDialog order={running} close={() => setRunning(undefined)} done={() => setView("History")} />}
    </>
  );
}

function ByItself({ order: k }: { order: KeptOrder }) {
  return (
    <>
      {k.schedule && <div>{`${k.schedule.when}, ${k.schedule.zone || "UTC"}`}</div>}
      {k.when_behind && <div>when one is behind</div>}
    </>
  );
}

function Named({ order: k }: { order: KeptOrder }) {
  return (
    <>
      <b>{k.order}</b>
      {k.released?.length ? (
        <div>
          {k.released.map((role) => (
            <Tag key={role}>{`for each ${role}`}</Tag>
          ))}
        </div>
      ) : null}
      {k.problem && (
        <div>
          <Typography.Text type="danger">{`it would fail now: ${k.problem}`}</Typography.Text>
        </div>
      )}
      {k.note && (
        <div>
          <Typography.Text type="secondary">{k.note}</Typography.Text>
        </div>
      )}
    </>
  );
}

/** What an order does, a line for each part. */
function Does({ order: k }: { order: KeptOrder }) {
  const to = (o: { to?: string[]; where?: string }) => [o.to?.join(", "), o.where && `where ${o.where}`].filter(Boolean).join(" ");
  const lines: Record<string, string | undefined> = {
    capture: k.capture && `capture ${k.capture.workstation} as ${k.capture.image}`,
    check: k.check && `check ${to(k.check)}; who fails is taken out`,
    save: k.save_days ? `save what is on the disks, for ${k.save_days} days` : undefined,
    wipe: k.wipe_disks && `wipe the disks of ${k.wipe_disks.workstations.join(", ")}`,
    deliver: k.deliver && `deliver ${k.deliver.image} to ${to(k.deliver)}`,
    folders: k.folders_back && `bring back ${k.folders_back.join(", ")}`,
    drivers: k.install_drivers && `install drivers on ${to(k.install_drivers)}`,
    payloads: k.bring_payloads && `bring ${k.bring_payloads.payloads.join(", ")} to ${to(k.bring_payloads)}`,
  };
  return k.work.map((part) => {
    const command = k.commands?.find((c) => part === `command ${c.command}`);
    const line = lines[part] ?? (command && `run the ${part} ${to(command) && `on ${to(command)}`}`.trim());
    const condition = k.only_if?.[part.replace("command ", "")];
    return line && <div key={part}>{line + (condition ? `, only if ${condition}` : "")}</div>;
  });
}

function Last({ order: k }: { order: KeptOrder }) {
  return k.last_run ? (
    <>
      <Outcome state={k.last_run.state} />
      {when(k.last_run.began)}
    </>
  ) : null;
}
