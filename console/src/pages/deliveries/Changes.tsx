import { Table } from "antd";
import type { Delivery } from "../../api/client";
import { when } from "../../format";

/** What was done to a delivery after it was ordered, and by whom. */
export function Changes({ of }: { of: Delivery }) {
  if (!of.changes?.length) return null;
  return (
    <Table
      size="small"
      style={{ marginTop: 16 }}
      pagination={false}
      rowKey={(c) => c.at + c.what}
      dataSource={of.changes}
      columns={[
        { title: "When", width: 180, render: (_, c) => when(c.at) },
        { title: "By", width: 180, dataIndex: "by" },
        { title: "What happened", dataIndex: "what" },
      ]}
    />
  );
}
