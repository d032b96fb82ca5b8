import { Card, Input, Typography } from "antd";
import { ask, client, type Line } from "../../api/client";
import { useList } from "../../api/useList";
import { when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { PageTitle } from "../../parts/PageTitle";

/** Who changed what, from where and through what. */
export function Logbook() {
  const list = useList<Line>(["logbook"], (query) => ask(client.GET("/logbook", { params: { query } })));
  return (
    <>
      <PageTitle title="Logbook">
        <Input.Search allowClear placeholder="Who, what, of what" onSearch={list.search} style={{ width: 300 }} />
      </PageTitle>
      <Card styles={{ body: { padding: 0 } }}>
        <ListTable<Line>
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
              title: "Sent",
              render: (_, l) => {
                const text = JSON.stringify(l.details);
                return (
                  text !== "{}" && (
                    <Typography.Paragraph code ellipsis={{ rows: 2, expandable: true, symbol: "more" }} style={{ margin: 0, wordBreak: "break-all" }}>
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
