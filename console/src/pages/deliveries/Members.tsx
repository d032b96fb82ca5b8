import { Progress, Table, Tag, Tooltip, type TableColumnsType } from "antd";
import type { Delivery, Member } from "../../api/client";
import { left, percent, perSecond, share, size } from "../../format";
import { Address } from "../../parts/Address";
import { Outcome } from "../../parts/Outcome";
import { leaf, ochre, rust, slate } from "../../theme";

const first: TableColumnsType<Member> = [
  { title: "Workstation", dataIndex: "workstation", render: (name: string) => <b>{name}</b> },
  { title: "State", render: (_, m) => <Outcome is={m.outcome || m.phase} /> },
];

// While it runs, what tells who holds the others back.
const live: TableColumnsType<Member> = [
  { title: "Progress", width: "32%", render: (_, m) => <Course of={m} /> },
  { title: "Speed", align: "right", render: (_, m) => perSecond(m.speed) },
  { title: "Loss", align: "right", render: (_, m) => <Doubtful is={m.loss_share > 0.05}>{share(m.loss_share)}</Doubtful> },
  { title: "Repairs", align: "right", render: (_, m) => share(m.repair_share) },
  { title: "Disk", align: "right", render: (_, m) => perSecond(m.disk_speed) },
  { title: "Left", align: "right", render: (_, m) => left(m.seconds_left) },
];

// Afterwards, what the receipts say.
const ended: TableColumnsType<Member> = [
  { title: "Hardware address", render: (_, m) => <Address of={m.hardware_address} /> },
  { title: "Progress", width: "34%", render: (_, m) => <Course of={m} /> },
  { title: "By multicast", align: "right", render: (_, m) => size(m.bytes_multicast) },
  { title: "By unicast", align: "right", render: (_, m) => size(m.bytes_unicast) },
];

/** The workstations of a delivery. */
export function Members({ of }: { of: Delivery }) {
  return (
    <Table<Member>
      size="small"
      pagination={(of.members?.length ?? 0) > 50 ? { pageSize: 50 } : false}
      rowKey="workstation"
      dataSource={of.members}
      columns={[...first, ...(of.ended ? ended : live)]}
    />
  );
}

function Doubtful({ is, children }: { is: boolean; children: React.ReactNode }) {
  return <span style={is ? { color: rust, fontWeight: 600 } : undefined}>{children}</span>;
}

const strokes: Record<string, string> = { receiving: ochre, mending: ochre, checking: slate };

function Course({ of }: { of: Member }) {
  if (of.outcome === "delivered")
    return (
      <>
        <Progress percent={100} size="small" strokeColor={leaf} format={() => "checked"} />
        {of.reason && <span>{of.reason}</span>}
      </>
    );
  if (of.reason) return <span style={{ color: rust }}>{of.reason}</span>;
  if (of.phase === "awaited") return <span>has not called in</span>;
  return (
    <>
      <Tooltip title={`${size(of.done)} of ${size(of.total)}`}>
        <Progress percent={percent(of.done, of.total)} size="small" strokeColor={strokes[of.phase]} />
      </Tooltip>
      {of.aside && <Tag color="gold">{`served alone: ${of.aside}`}</Tag>}
      {!of.aside && of.silent_seconds >= 5 && <Tag color="volcano">{`silent for ${left(of.silent_seconds)}`}</Tag>}
    </>
  );
}
