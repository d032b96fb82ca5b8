import { Table } from "antd";
import type { Delivery } from "../../api/client";
import { when } from "../../format";

/** What was done to a delivery after it was ordered, and by whom. */
export function Changes({ delivery }: { delivery: Delivery }) {
  if (!delivery.changes?.length) return null;
  return (
    <Table
      size="small"
      style={{ marginTop: 16 }}
      pagination={false}
      rowKey={(c) => c.at + c.what}
      dataSource={delivery.changes}
      columns={[
        { title: "When", width: 180, render: (_, c) => when(c.at) },
        { title: "By", width: 180, dataIndex: "by" },
        { title: "What happened", dataIndex: "what" },
      ]}
    />
  );
}
