import { Table } from "antd";
import { Link } from "react-router";
import { ask, client, type SavingsReport } from "../../api/client";
import { left, size, when } from "../../format";
import { ReportTable } from "./ReportTable";

const sum = (rows: readonly SavingsReport[], of: (r: SavingsReport) => number) => rows.reduce((n, r) => n + of(r), 0);

/** What multicast, and what was on disks already, have saved. */
export function Savings({ since, until }: { since: string; until: string }) {
  return (
    <ReportTable<SavingsReport>
      name="savings"
      of={[since, until]}
      fetch={(form) => ask(client.GET("/reports/savings", { params: { query: { since, until } }, ...form }))}
      rowKey={(r) => String(r.delivery)}
      empty="No delivery ended in that time."
      columns={[
        { title: "Delivery", render: (_, r) => <Link to={`/deliveries/${r.delivery}`}>{`No. ${r.delivery}`}</Link> },
        { title: "Image", render: (_, r) => `${r.image}@${r.version}` },
        { title: "Ended", render: (_, r) => when(r.ended) },
        { title: "Workstations", align: "right", dataIndex: "workstation_count" },
        { title: "Received", align: "right", render: (_, r) => size(r.received_bytes) },
        { title: "Sent", align: "right", render: (_, r) => size(r.wire_bytes) },
        { title: "On disks already", align: "right", render: (_, r) => size(r.reused_bytes) },
        { title: "Saved", align: "right", render: (_, r) => <b>{size(r.saved_bytes)}</b> },
        { title: "Time saved", align: "right", render: (_, r) => (r.saved_seconds ? left(r.saved_seconds) : "") },
      ]}
      summary={(rows) => (
        <Table.Summary.Row>
          <Table.Summary.Cell index={0} colSpan={3}>
            <b>{rows.length === 1 ? "1 delivery" : `${rows.length} deliveries`}</b>
          </Table.Summary.Cell>
          {[sum(rows, (r) => r.workstation_count), size(sum(rows, (r) => r.received_bytes)), size(sum(rows, (r) => r.wire_bytes)), size(sum(rows, (r) => r.reused_bytes)), size(sum(rows, (r) => r.saved_bytes)), left(sum(rows, (r) => r.saved_seconds))].map((text, i) => (
            <Table.Summary.Cell key={i} index={3 + i} align="right">
              <b>{text}</b>
            </Table.Summary.Cell>
          ))}
        </Table.Summary.Row>
      )}
    />
  );
}
