import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Popconfirm, Table } from "antd";
import { Link } from "react-router";
import { ask, client, type OrderRun, type RunPart } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { when } from "../../format";
import { CommandOutput } from "../../parts/CommandOutput";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { Outcome } from "../../parts/Outcome";
import { Shown } from "../../parts/Shown";

/** What orders have done, the newest first. */
export function Runs() {
  const list = useList<OrderRun>(["runs"], (query, form) => ask(client.GET("/runs", { params: { query }, ...form })), { within: "run-" });
  const stop = useChange(
    (r: OrderRun) => ask(client.POST("/runs/{run}/stop", { params: { path: { run: r.id } } })),
    ["runs", "orders"],
    (r) => `Run ${r.id} of ${r.order} is stopped.`,
  );
  const goOn = useChange(
    (r: OrderRun) => ask(client.POST("/runs/{run}/go-on", { params: { path: { run: r.id } } })),
    ["runs", "orders"],
    (r) => `Run ${r.id} goes on for run ${r.continues}.`,
  );
  return (
    <Card styles={{ body: { padding: 0 } }}>
      <ListTable<OrderRun>
        name="runs"
        list={list}
        rowKey="id"
        empty="Nothing has run yet."
        expandable={{ expandedRowRender: (r) => <Parts run={r} /> }}
        columns={[
          { title: "Run", render: (_, r) => `No. ${r.id}` },
          { title: "Order", key: "order", sorter: true, render: (_, r) => <b>{r.order}</b> },
          { title: explained("State", { kind: "state of a run" }), render: (_, r) => <Outcome state={r.state} /> },
          { title: "Began", key: "began", sorter: true, render: (_, r) => when(r.began) },
          { title: "Ended", render: (_, r) => r.ended && when(r.ended) },
          { title: "Ordered by", dataIndex: "ordered_by" },
          { title: "Reason", dataIndex: "reason" },
          {
            title: "",
            align: "right",
            render: (_, r) =>
              r.ended ? (
                (r.state === "failed" || r.state === "stopped") && (
                  <Popconfirm title={`Go on for those that run ${r.id} of ${r.order} failed for?`} description="From the part that failed; disks are overwritten as the order says." okText="Go on" onConfirm={() => goOn.mutate(r)}>
                    <Button size="small">Go on…</Button>
                  </Popconfirm>
                )
              ) : (
                <Popconfirm title={`Stop run ${r.id} of ${r.order}?`} description="What it has under way is stopped, too." okText="Stop" onConfirm={() => stop.mutate(r)}>
                  <Button size="small" danger>
                    Stop
                  </Button>
                </Popconfirm>
              ),
          },
        ]}
      />
    </Card>
  );
}

/** The parts of a run, with what they have made. */
function Parts({ run }: { run: OrderRun }) {
  const query = useQuery({ queryKey: ["run", run.id, run.state], queryFn: () => ask(client.GET("/runs/{run}", { params: { path: { run: run.id } } })), refetchInterval: run.ended ? false : 2000 });
  return (
    <Shown query={query}>
      {({ parts }) => (
        <Table<RunPart>
          size="small"
          rowKey="part"
          dataSource={parts}
          pagination={false}
          locale={{ emptyText: "It did not begin." }}
          columns={[
            { title: "Part", dataIndex: "part" },
            { title: "State", render: (_, p) => <Outcome state={p.state} /> },
            { title: "Began", render: (_, p) => p.began && when(p.began) },
            { title: "Ended", render: (_, p) => p.ended && when(p.ended) },
            { title: "Made", render: (_, p) => <Made part={p} /> },
            { title: "Taken out", render: (_, p) => p.taken_out.map((l) => <div key={l.id}>{`${l.workstation}: ${l.reason}`}</div>) },
            { title: "Reason", render: (_, p) => (p.taken_out.length ? "" : p.reason) },
          ]}
        />
      )}
    </Shown>
  );
}

function Made({ part: p }: { part: RunPart }) {
  if (p.commands_run?.length) return p.commands_run.map((e) => <CommandOutput key={e.id} errand={e} label={e.workstation} />);
  return (
    <Flex gap={8} wrap>
      {p.deliveries.map((d) => (
        <Link key={d} to={`/deliveries/${d}`}>{`delivery ${d}`}</Link>
      ))}
      {p.errand_numbers.map((e) => (
        <span key={e}>{`errand ${e}`}</span>
      ))}
    </Flex>
  );
}
