import { Button, Card, Flex, Input, Segmented, Tag, Typography } from "antd";
import { ask, client, type Message } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { useOneOf } from "../../api/useParam";
import { when } from "../../format";
import { ListTable } from "../../parts/ListTable";

const states = ["all", "waiting", "sent", "given up"] as const;
const colours = { waiting: "gold", sent: "green", "given up": "volcano" };

/** What was told, and is to be. */
export function Messages() {
  const [state, setState] = useOneOf("state", states);
  const list = useList<Message>(["messages", state], (query, form) =>
    ask(client.GET("/notifications/messages", { params: { query: { ...query, sort: undefined, state: state === "all" ? undefined : state } }, ...form })),
  );
  const again = useChange((m: Message) => ask(client.POST("/notifications/messages/{message}/send", { params: { path: { message: m.message } } })), ["messages", "notification-rules"], () => "It is sent once more.");
  return (
    <Card
      title="Messages"
      styles={{ body: { padding: 0 } }}
      extra={
        <Flex gap={12} wrap>
          <Segmented options={[...states]} value={state} onChange={setState} />
          <Input.Search allowClear placeholder="Rule, event or text" defaultValue={list.searched} onSearch={list.search} style={{ width: 220 }} />
        </Flex>
      }
    >
      <ListTable<Message>
        name="messages"
        list={list}
        rowKey="message"
        scroll={{ x: "max-content" }}
        empty={state === "all" ? "Nothing was told yet." : `No message is ${state}.`}
        columns={[
          { title: "Happened", render: (_, m) => when(m.created) },
          { title: "Rule", render: (_, m) => <b>{m.rule}</b> },
          { title: "Event", dataIndex: "event" },
          {
            title: "What",
            render: (_, m) => (
              <div style={{ maxWidth: 380 }}>
                {m.what}
                {m.trouble && <Typography.Text type="danger" style={{ display: "block" }}>{m.trouble}</Typography.Text>}
              </div>
            ),
          },
          { title: "State", render: (_, m) => <Tag color={colours[m.state]}>{m.state}</Tag> },
          { title: "Tries", align: "right", dataIndex: "attempts" },
          { title: "Next", render: (_, m) => when(m.due) },
          {
            title: "",
            align: "right",
            render: (_, m) =>
              m.state !== "sent" && (
                <Button size="small" onClick={() => again.mutate(m)}>
                  Send now
                </Button>
              ),
          },
        ]}
      />
    </Card>
  );
}
