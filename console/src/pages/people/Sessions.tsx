import { useQuery } from "@tanstack/react-query";
import { Button, Card, Table, Tag } from "antd";
import { ask, client, type OpenSession } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";
import { Shown } from "../../parts/Shown";

/** Who is signed in, and from where. */
export function Sessions() {
  const query = useQuery({ queryKey: ["sessions"], queryFn: () => ask(client.GET("/sessions", {})) });
  const end = useChange((s: OpenSession) => ask(client.DELETE("/sessions/{session}", { params: { path: { session: s.session } } })), ["sessions"]);
  return (
    <Card title="Sessions" styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<OpenSession>
            size="small"
            rowKey="session"
            dataSource={items}
            pagination={false}
            columns={[
              { title: "Person", render: (_, s) => <b>{s.person || "the key of last resort"}</b> },
              { title: "Since", render: (_, s) => when(s.opened) },
              { title: "From", dataIndex: "from" },
              { title: "Program", dataIndex: "program", ellipsis: true },
              {
                title: "",
                align: "right",
                width: 110,
                render: (_, s) =>
                  s.own ? (
                    <Tag color="green">this one</Tag>
                  ) : (
                    <Button size="small" onClick={() => end.mutate(s)}>
                      End
                    </Button>
                  ),
              },
            ]}
          />
        )}
      </Shown>
    </Card>
  );
}
