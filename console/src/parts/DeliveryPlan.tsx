import { Alert, Flex, Table, Tag } from "antd";
import type { Plan } from "../api/client";
import { left, size, when } from "../format";

/** What a delivery would do, workstation by workstation, and what speaks against it. */
export function DeliveryPlan({ plan }: { plan: Plan }) {
  const notes = plan.members.flatMap((w) => [
    ...w.problems.map((text) => ({ name: w.workstation, text, refused: true })),
    ...w.warnings.map((text) => ({ name: w.workstation, text, refused: false })),
  ]);
  const estimate = plan.seconds ? `about ${left(plan.seconds)} once the stream runs` : "unknown how long, as nothing was delivered yet";
  const stays = plan.members.some((w) => w.stays?.length);
  return (
    <Flex vertical gap={12} style={{ marginTop: 16 }}>
      <div>
        These disks {plan.refused ? "would be" : "will be"} overwritten ({size(plan.used_bytes)} each, {estimate}); the stream starts at {when(plan.at_latest)} at the latest.
      </div>
      <Table
        size="small"
        rowKey="workstation"
        pagination={plan.members.length > 8 ? { pageSize: 8, size: "small" } : false}
        dataSource={plan.members}
        columns={[
          { title: "Workstation", render: (_, w) => <b>{w.workstation}</b> },
          { title: "Model", render: (_, w) => `${w.maker} ${w.model}` },
          { title: "Disk", render: (_, w) => (w.overwritten_disk ? `${size(w.overwritten_disk.size)}, ${w.overwritten_disk.model}` : "unknown") },
          ...(stays ? [{ title: "Stays", render: (_: unknown, w: Plan["members"][number]) => w.stays?.join("; ") }] : []),
          { title: "Has now", render: (_, w) => (w.unfinished ? `${w.image}, unfinished` : w.image) },
          { title: "Is", render: (_, w) => (w.online ? "there" : "away") },
          { title: "", render: (_, w) => (w.problems.length ? <Tag color="red">refused</Tag> : w.warnings.length ? <Tag color="gold">warning</Tag> : null) },
        ]}
      />
      {notes.length > 0 && (
        <Alert
          type={plan.refused ? "error" : "warning"}
          showIcon
          title={plan.refused ? "It would be refused; leave out the workstations that are named." : "What to know before"}
          description={
            <ul style={{ paddingLeft: 18, margin: 0, maxHeight: 160, overflow: "auto" }}>
              {notes.map((n) => (
                <li key={`${n.name} ${n.text}`}>{`${n.name}: ${n.text}`}</li>
              ))}
            </ul>
          }
        />
      )}
    </Flex>
  );
}
