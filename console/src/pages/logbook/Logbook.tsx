import { Card, Input, Segmented, Typography } from "antd";
import { ask, client, type Line } from "../../api/client";
import { useList } from "../../api/useList";
import { useOneOf } from "../../api/useParam";
import { when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { PageTitle } from "../../parts/PageTitle";
import { RecordsCheck } from "../../parts/RecordsCheck";
import { Proof } from "./Proof";

/** What differs since, field by field. */
function changed({ changed_fields }: Line) {
  const all = Object.entries((changed_fields ?? {}) as Record<string, { before: unknown; after: unknown }>);
  return all.map(([field, { before, after }]) => `${field}: ${JSON.stringify(before)} → ${JSON.stringify(after)}`).join("; ");
}

/** Who changed what, from where and through what. */
export function Logbook() {
  const [shown, setShown] = useOneOf("view", ["Lines", "Proof"]);
  const list = useList<Line>(["logbook"], (query, form) => ask(client.GET("/logbook", { params: { query }, ...form })));
  return (
    <>
      <PageTitle title="Logbook">
        <RecordsCheck />
        <Segmented value={shown} onChange={setShown} options={["Lines", "Proof"]} />
        {shown === "Lines" && <Input.Search allowClear placeholder="Who, what, of what" defaultValue={list.searched} onSearch={list.search} style={{ width: 300 }} />}
      </PageTitle>
      {shown === "Proof" && <Proof />}
      <Card hidden={shown !== "Lines"} styles={{ body: { padding: 0 } }}>
        <ListTable<Line>
          name="logbook"
          list={list}
          rowKey="line"
          empty="Nothing was changed yet."
          columns={[
            { title: "At", key: "at", sorter: true, width: 170, render: (_, l) => when(l.at) },
            { title: "Who", key: "who", sorter: true, width: 160, render: (_, l) => <b>{l.who}</b> },
            { title: "From", width: 130, dataIndex: "from" },
            { title: "Through", width: 120, dataIndex: "through" },
            { title: "What", key: "operation", sorter: true, width: 190, dataIndex: "operation" },
            { title: "Of", width: 200, dataIndex: "subject" },
            {
              title: "Changed, or sent",
              render: (_, l) => {
                const text = changed(l) || JSON.stringify(l.details);
                return (
                  text !== "{}" && (
                    <Typography.Paragraph code ellipsis={{ rows: 2, expandable: true, symbol: "Expand" }} style={{ margin: 0, wordBreak: "break-all" }}>
                      {text}
                    </Typography.Paragraph>
                  )
                );
              },
            },
          ]}
        />
      </Card>
    </>
  );
}
