import { ask, client, type Receipt } from "../../api/client";
import { useList } from "../../api/useList";
import { when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { Outcome } from "../../parts/Outcome";

/** What was put where in a period, by its receipts. */
export function PeriodReceipts({ since, until }: { since: string; until: string }) {
  const list = useList<Receipt>(["receipts", "period", since, until], (query, form) => ask(client.GET("/receipts", { params: { query: { ...query, since, until } }, ...form })), { limit: 200 });
  return (
    <ListTable<Receipt>
      name="receipts-of-period"
      list={list}
      rowKey="id"
      empty="No receipt of that time."
      columns={[
        { title: "No.", dataIndex: "id" },
        { title: "Ended", key: "ended", sorter: true, render: (_, r) => when(r.ended) },
        { title: "Workstation", key: "workstation", sorter: true, dataIndex: "workstation" },
        { title: "Serial", dataIndex: "serial" },
        { title: "Image", key: "image", sorter: true, render: (_, r) => (r.wipe ? "wiped" : `${r.image}@${r.version}`) },
        { title: "Outcome", key: "outcome", sorter: true, render: (_, r) => <Outcome state={r.outcome} /> },
        { title: "Ordered by", dataIndex: "ordered_by" },
        { title: "Reason", dataIndex: "reason" },
      ]}
    />
  );
}
