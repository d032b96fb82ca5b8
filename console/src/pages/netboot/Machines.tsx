import { Card, Steps, Table, Tag, Timeline, Tooltip } from "antd";
import type { BootTrail } from "../../api/client";
import { clock } from "../../format";
import { Address } from "../../parts/Address";
import { rust } from "../../theme";
import { CoverButton } from "../../parts/CoverButton";

const way = [
  { step: "address", title: "Address" },
  { step: "loader", title: "Loader" },
  { step: "script", title: "Script" },
  { step: "kernel", title: "Kernel" },
  { step: "initrd", title: "Layers" },
  { step: "agent", title: "Agent" },
];

/** How far each machine has come since it was last switched on. */
export function Machines({ machines }: { machines: BootTrail[] }) {
  return (
    <Card title={`Machines (${machines.length})`} styles={{ body: { padding: 0 } }} className="machines">
      <Table<BootTrail>
        size="small"
        rowKey="hardware_address"
        dataSource={machines}
        pagination={machines.length > 25 ? { pageSize: 25, showSizeChanger: false } : false}
        locale={{ emptyText: "No machine has asked yet" }}
        expandable={{ expandedRowRender: (m) => <Trail machine={m} /> }}
        columns={[
          { title: "Machine", width: 190, render: (_, m) => (m.workstation ? <b>{m.workstation}</b> : <Address text={m.hardware_address} />) },
          { title: "Way to the agent", render: (_, m) => <Way machine={m} /> },
          { title: "Last", width: 110, render: (_, m) => clock(last(m).at) },
        ]}
      />
    </Card>
  );
}

const last = (m: BootTrail) => m.steps[m.steps.length - 1];

/** The steps since the machine asked for an address last. */
function current(m: BootTrail) {
  const from = m.steps.map((s) => s.step).lastIndexOf("address");
  return m.steps.slice(Math.max(from, 0));
}

function Way({ machine }: { machine: BootTrail }) {
  const { step, detail } = last(machine);
  if (step === "refused" || step === "failed")
    return (
      <>
        <Tag color="volcano">{step}</Tag>
        {detail}
      </>
    );
  const taken = current(machine).map((s) => s.step);
  const reached = way.reduce((far, w, i) => (taken.includes(w.step as never) ? i : far), 0);
  const script = current(machine).find((s) => s.step === "script");
  const home = script?.detail.startsWith("disk") && !taken.includes("kernel");
  const entry = script?.detail.startsWith("boot entry: ") && script.detail.replace("boot entry: ", "");
  return (
    <>
      <Steps
        size="small"
        type="dot"
        current={reached}
        status={machine.stuck ? "error" : reached === way.length - 1 || home || entry ? "finish" : "process"}
        items={way.map((w) => ({ title: w.title }))}
      />
      {machine.stuck && <div style={{ color: rust }}>{`Stuck: ${machine.stuck}.`}</div>}
      {machine.coverable && <CoverButton cover={machine.coverable} text="Build with that driver, and offer it" />}
      {entry && <div>{`${taken.includes("entry") ? "Has loaded" : "Was told to start"} the boot entry ${entry}.`}</div>}
      {home && <div>{`Sent to its own disk (${script?.detail.replace("disk: ", "")}).`}</div>}
    </>
  );
}

function Trail({ machine }: { machine: BootTrail }) {
  return (
    <Timeline
      style={{ margin: "12px 0 0 24px" }}
      items={machine.steps.map((s) => ({
        color: s.step === "refused" || s.step === "failed" ? "red" : "green",
        content: (
          <Tooltip title={s.at}>
            {clock(s.at)} <b>{s.step}</b> {s.detail}
          </Tooltip>
        ),
      }))}
    />
  );
}
