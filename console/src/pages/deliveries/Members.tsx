import { Progress, Table, Tag, Tooltip, type TableColumnsType } from "antd";
import type { Delivery, Member } from "../../api/client";
import { left, percent, perSecond, share, size } from "../../format";
import { Address } from "../../parts/Address";
import { explained } from "../../parts/Explain";
import { Outcome } from "../../parts/Outcome";
import { leaf, ochre, rust, slate } from "../../theme";

const first: TableColumnsType<Member> = [
  { title: "Workstation", dataIndex: "workstation", render: (name: string, m) => <><b>{name}</b>{m.site && <Tag style={{ marginLeft: 8 }}>{m.site}</Tag>}</> },
  { title: explained("State", { kind: "phase of a workstation in a delivery" }), render: (_, m) => <Outcome state={m.outcome || m.phase} /> },
];

// While it runs, what tells who holds the others back.
const live: TableColumnsType<Member> = [
  { title: "Progress", width: "32%", render: (_, m) => <Progression member={m} /> },
  { title: "Speed", align: "right", render: (_, m) => perSecond(m.speed) },
  { title: "Loss", align: "right", render: (_, m) => <Doubtful when={m.loss_share > 0.05}>{share(m.loss_share)}</Doubtful> },
  { title: "Repairs", align: "right", render: (_, m) => share(m.repair_share) },
  { title: "Disk", align: "right", render: (_, m) => perSecond(m.disk_speed) },
  { title: "Left", align: "right", render: (_, m) => left(m.seconds_left) },
];

// Afterwards, what the receipts say.
const ended: TableColumnsType<Member> = [
  { title: "Hardware address", render: (_, m) => <Address text={m.hardware_address} /> },
  { title: "Progress", width: "34%", render: (_, m) => <Progression member={m} /> },
  { title: "By multicast", align: "right", render: (_, m) => size(m.bytes_multicast) },
  { title: "By unicast", align: "right", render: (_, m) => size(m.bytes_unicast) },
];

/** The workstations of a delivery. */
export function Members({ delivery }: { delivery: Delivery }) {
  return (
    <Table<Member>
      size="small"
      pagination={(delivery.members?.length ?? 0) > 50 ? { pageSize: 50 } : false}
      rowKey="workstation"
      dataSource={delivery.members}
      columns={[...first, ...(delivery.ended ? ended : live)]}
    />
  );
}

function Doubtful({ when, children }: { when: boolean; children: React.ReactNode }) {
  return <span style={when ? { color: rust, fontWeight: 600 } : undefined}>{children}</span>;
}

const strokes: Record<string, string> = { receiving: ochre, mending: ochre, checking: slate };

function Progression({ member: m }: { member: Member }) {
  if (m.outcome === "delivered")
    return (
      <>
        <Progress aria-label={`How far ${m.workstation} is`} percent={100} size="small" strokeColor={leaf} format={() => "checked"} />
        {m.reason && <span>{m.reason}</span>}
      </>
    );
  if (m.reason) return <span style={{ color: rust }}>{m.reason}</span>;
  if (m.phase === "awaited") return <span>has not called in</span>;
  return (
    <>
      <Tooltip title={`${size(m.done)} of ${size(m.total)}`}>
        <Progress aria-label={`How far ${m.workstation} is`} percent={percent(m.done, m.total)} size="small" strokeColor={strokes[m.phase]} />
      </Tooltip>
      {m.aside && <Tag color="gold">{`served alone: ${m.aside}`}</Tag>}
      {!m.aside && m.silent_seconds >= 5 && <Tag color="volcano">{`silent for ${left(m.silent_seconds)}`}</Tag>}
    </>
  );
}
