import { Table } from "antd";
import { Link } from "react-router";
import { ask, client, type LicenceReport } from "../../api/client";
import { when, whole } from "../../format";
import { ReportTable } from "./ReportTable";

/** How many rows have something, by what it is. */
function counts(rows: readonly LicenceReport[], of: (row: LicenceReport) => string): string {
  const all = new Map<string, number>();
  for (const row of rows) if (of(row)) all.set(of(row), (all.get(of(row)) ?? 0) + 1);
  return [...all].map(([what, n]) => `${what}: ${whole(n)}`).join(", ");
}

/** Which workstations are given a product key, or join a domain. */
export function Licences() {
  return (
    <ReportTable<LicenceReport>
      name="licences"
      of={[]}
      fetch={(form) => ask(client.GET("/reports/licences", { ...form }))}
      rowKey={(r) => r.workstation}
      empty="No answer names a product key or a domain."
      columns={[
        { title: "Workstation", render: (_, r) => <Link to={`/workstations/${r.workstation}`}>{r.workstation}</Link> },
        { title: "Model", dataIndex: "model" },
        { title: "Has", dataIndex: "image" },
        { title: "Product key", render: (_, r) => r.product_key_end && `…${r.product_key_end}, of ${r.product_key_from}` },
        { title: "Domain", render: (_, r) => r.domain && `${r.domain}, as ${r.computer_name}` },
        { title: "Started", render: (_, r) => when(r.arrived) },
        { title: "Remark", dataIndex: "remark" },
      ]}
      summary={(rows) => (
        <Table.Summary.Row>
          <Table.Summary.Cell index={0} colSpan={3}>{`${whole(rows.length)} in all`}</Table.Summary.Cell>
          <Table.Summary.Cell index={3}>{counts(rows, (r) => r.product_key_end && `…${r.product_key_end}`)}</Table.Summary.Cell>
          <Table.Summary.Cell index={4} colSpan={3}>
            {counts(rows, (r) => r.domain)}
          </Table.Summary.Cell>
        </Table.Summary.Row>
      )}
    />
  );
}
