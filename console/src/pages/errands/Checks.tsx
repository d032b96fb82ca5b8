import { useQuery } from "@tanstack/react-query";
import { Card, Flex, Input, Select, Typography } from "antd";
import { ask, client, type Check } from "../../api/client";
import { useList } from "../../api/useList";
import { useParam } from "../../api/useParam";
import { size, when, whole } from "../../format";
import { explained } from "../../parts/Explain";
import { ListTable } from "../../parts/ListTable";
import { Outcome } from "../../parts/Outcome";
import { Shown } from "../../parts/Shown";
import { SpeedLegend, SpeedMap } from "../../parts/SpeedMap";

const verdicts = ["good", "doubtful", "bad"] as const;

/** What checks of machines have found out, the newest first; those of one model stand below each other. */
export function Checks() {
  const [wanted, setVerdict] = useParam("verdict");
  const verdict = verdicts.find((v) => v === wanted);
  const [model, setModel] = useParam("model");
  const list = useList<Check>(["checks", verdict, model], (query, form) => ask(client.GET("/checks", { params: { query: { ...query, verdict, model } }, ...form })), { within: "check-" });
  return (
    <Card
      styles={{ body: { padding: 0 } }}
      title="Checks"
      extra={
        <Flex gap={8}>
          <Select allowClear placeholder="All verdicts" value={verdict} onChange={setVerdict} options={verdicts.map((value) => ({ value, label: value }))} style={{ width: 140 }} />
          <Input.Search allowClear placeholder="Maker and model, * for any" defaultValue={model} onSearch={setModel} style={{ width: 230 }} />
        </Flex>
      }
    >
      <ListTable<Check>
        name="checks"
        list={list}
        rowKey="id"
        empty="No workstation was checked yet. Roster: More, Check…"
        expandable={{ expandedRowRender: (c) => <Figures check={c} /> }}
        columns={[
          { title: "Check", render: (_, c) => `No. ${c.id}` },
          { title: "Ended", key: "ended", sorter: true, render: (_, c) => when(c.ended) },
          { title: "Workstation", key: "workstation", sorter: true, render: (_, c) => <b>{c.workstation}</b> },
          { title: "Model", key: "model", sorter: true, render: (_, c) => `${c.maker} ${c.model}` },
          { title: explained("Verdict", { kind: "verdict of a check" }), key: "verdict", sorter: true, render: (_, c) => <Outcome state={c.verdict} /> },
          { title: "Speed of its disk", width: 260, render: (_, c) => <Speed check={c} /> },
          { title: "Found", render: (_, c) => <Found check={c} /> },
        ]}
      />
    </Card>
  );
}

const useCheck = (id: number) => useQuery({ queryKey: ["check", id], queryFn: () => ask(client.GET("/checks/{check}", { params: { path: { check: id } } })), staleTime: Infinity });

function Speed({ check }: { check: Check }) {
  const surface = useCheck(check.id).data?.figures?.surface_check;
  return surface ? <SpeedMap surface={surface} height={28} /> : null;
}

/** What is not good, or that all is. */
function Found({ check: c }: { check: Check }) {
  const odd = c.noticed.filter((f) => f.verdict !== "good");
  if (!odd.length) return <Typography.Text type="secondary">{c.noticed.map((f) => f.about).join(", ")}</Typography.Text>;
  return (
    <>
      {odd.map((f) => (
        <div key={f.text}>{`${f.about}: ${f.text}`}</div>
      ))}
    </>
  );
}

function Figures({ check }: { check: Check }) {
  return (
    <Shown query={useCheck(check.id)}>
      {(c) => (
        <Flex vertical gap={8}>
          {c.noticed.map((f) => (
            <div key={f.text}>
              <Outcome state={f.verdict} />
              {`${f.about}: ${f.text}`}
            </div>
          ))}
          {c.figures?.surface_check && (
            <div>
              <SpeedMap surface={c.figures.surface_check} height={80} />
              <Typography.Text type="secondary">
                <SpeedLegend surface={c.figures.surface_check} />
              </Typography.Text>
              {c.figures.surface_check.unreadable.map((u) => (
                <div key={u.from_byte}>{`${size(u.length)} from byte ${whole(u.from_byte)} cannot be read`}</div>
              ))}
            </div>
          )}
        </Flex>
      )}
    </Shown>
  );
}
