import { useQuery } from "@tanstack/react-query";
import { App, Button, Card, Descriptions, Flex, Popconfirm, Table, Tag, Typography } from "antd";
import { ask, client, type Watched, type Witness } from "../../api/client";
import { when } from "../../format";
import { save } from "../../parts/save";

/** What shows others that the records are complete: the signed head, and who countersigns. */
export function Proof() {
  const { message } = App.useApp();
  const head = useQuery({ queryKey: ["head"], queryFn: () => ask(client.GET("/log/head")) });
  const witnesses = useQuery({ queryKey: ["witnesses"], queryFn: () => ask(client.GET("/witnesses")) });
  const watched = useQuery({ queryKey: ["watched"], queryFn: () => ask(client.GET("/watched-services")) });
  const confirm = async (name: string) => {
    try {
      await ask(client.POST("/watched-services/{service}/confirm", { params: { path: { service: name } } }));
      await watched.refetch();
    } catch (e) {
      void message.error((e as Error).message);
    }
  };
  return (
    <Flex vertical gap={16}>
      <Card
        title="Signed head"
        loading={head.isPending}
        extra={
          head.data && (
            <Button size="small" onClick={() => save(`${head.data.leaf_count}.head`, head.data.head)}>
              Save, to check against later
            </Button>
          )
        }
      >
        {head.error && <Typography.Text type="danger">{head.error.message}</Typography.Text>}
        {head.data && (
          <Descriptions
            column={1}
            size="small"
            items={[
              { key: "leaves", label: "Receipts, arrivals and lines", children: head.data.leaf_count },
              { key: "at", label: "Signed", children: when(head.data.at) },
              {
                key: "key",
                label: "Checked with",
                children: (
                  <Typography.Text code copyable>
                    {head.data.log_key}
                  </Typography.Text>
                ),
              },
            ]}
          />
        )}
      </Card>
      <Card title="Witnesses, who countersign" styles={{ body: { padding: 0 } }}>
        <Table<Witness>
          size="small"
          rowKey="name"
          pagination={false}
          loading={witnesses.isPending}
          dataSource={witnesses.data?.items}
          locale={{ emptyText: "Nobody countersigns. Another Jugate can: jugate witness add." }}
          columns={[
            { title: "Witness", render: (_, w) => <b>{w.name}</b> },
            { title: "Countersigned", render: (_, w) => (w.at ? `${w.leaf_count}, ${when(w.at)}` : "") },
            { title: "Where", dataIndex: "url" },
            { title: "", render: (_, w) => w.problem && <Typography.Text type="danger">{w.problem}</Typography.Text> },
          ]}
        />
      </Card>
      <Card title="Services whose heads are countersigned here" styles={{ body: { padding: 0 } }}>
        <Table<Watched>
          size="small"
          rowKey="name"
          pagination={false}
          loading={watched.isPending}
          dataSource={watched.data?.items}
          locale={{ emptyText: "None. jugate witness watch begins with one." }}
          columns={[
            { title: "Service", render: (_, w) => <b>{w.name}</b> },
            { title: "Seen", render: (_, w) => (w.at ? `${w.leaf_count}, ${when(w.at)}` : "") },
            {
              title: "",
              render: (_, { name, restored }) =>
                restored && (
                  <Flex gap={8} align="center">
                    <Tag color="volcano">{`${restored.who} says that it was restored: ${restored.why}`}</Tag>
                    <Popconfirm title="Do you know of that from somebody?" onConfirm={() => confirm(name)}>
                      <Button size="small">Confirm…</Button>
                    </Popconfirm>
                  </Flex>
                ),
            },
          ]}
        />
      </Card>
    </Flex>
  );
}
