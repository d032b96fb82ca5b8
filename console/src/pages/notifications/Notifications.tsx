import { useQuery } from "@tanstack/react-query";
import { App, Button, Card, Flex, Popconfirm, Space, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type NotificationRule } from "../../api/client";
import { useChange } from "../../api/useChange";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { MailServer } from "./MailServer";
import { Messages } from "./Messages";
import { RuleDialog } from "./RuleDialog";

/** Who is told of what happens, by mail or by webhooks, and what came of it. */
export function Notifications() {
  const [editing, setEditing] = useState<Partial<NotificationRule>>();
  const rules = useQuery({ queryKey: ["notification-rules"], queryFn: () => ask(client.GET("/notifications/rules", {})) });
  return (
    <>
      <PageTitle title="Notifications">
        <Button type="primary" onClick={() => setEditing({})}>
          Tell somebody…
        </Button>
      </PageTitle>
      <Flex vertical gap={16}>
        <Shown query={rules}>{({ items }) => <Rules rules={items} edit={setEditing} />}</Shown>
        <MailServer />
        <Messages />
      </Flex>
      {editing && <RuleDialog before={editing} close={() => setEditing(undefined)} />}
    </>
  );
}

function Rules({ rules, edit }: { rules: NotificationRule[]; edit: (rule: NotificationRule) => void }) {
  const { message } = App.useApp();
  const path = (r: NotificationRule) => ({ params: { path: { notification_rule: r.rule } } });
  const tryIt = useChange(
    (r: NotificationRule) => ask(client.POST("/notifications/rules/{notification_rule}/try", path(r))),
    ["notification-rules"],
    (m) => `A message went out by ${m.rule}, and was taken.`,
  );
  const remove = useChange((r: NotificationRule) => ask(client.DELETE("/notifications/rules/{notification_rule}", path(r))), ["notification-rules", "messages"]);
  return (
    <Card title="Who is told" styles={{ body: { padding: 0 } }}>
      <Table<NotificationRule>
        size="small"
        rowKey="rule"
        dataSource={rules}
        pagination={false}
        scroll={{ x: "max-content" }}
        locale={{ emptyText: "Nobody is told of anything: whoever wants to know looks here." }}
        columns={[
          {
            title: "Rule",
            render: (_, r) => (
              <>
                <b>{r.rule}</b> {r.paused && <Tag color="gold">paused</Tag>}
              </>
            ),
          },
          {
            title: "Tells",
            render: (_, r) => (
              <div style={{ maxWidth: 340 }}>
                {r.webhook || r.mail_to.join(", ")}
                {r.trouble && <Typography.Text type="danger" style={{ display: "block" }}>{r.trouble}</Typography.Text>}
              </div>
            ),
          },
          {
            title: "Of",
            render: (_, r) => (
              <Flex wrap gap={4} style={{ maxWidth: 300 }}>
                {r.events.map((e) => (
                  <Tag key={e}>{e}</Tag>
                ))}
              </Flex>
            ),
          },
          { title: "Workstations of", render: (_, r) => r.groups.join(", ") || "all groups" },
          { title: "Waiting", align: "right", dataIndex: "waiting_count" },
          {
            title: "",
            align: "right",
            render: (_, r) => (
              <Space>
                <Button size="small" loading={tryIt.isPending && tryIt.variables.rule === r.rule} onClick={() => tryIt.mutate(r)}>
                  Try
                </Button>
                <Button size="small" onClick={() => edit(r)}>
                  Change…
                </Button>
                <Popconfirm title={`Forget ${r.rule}?`} description="Its messages go with it, also those that wait." okText="Forget" onConfirm={() => remove.mutate(r, { onSuccess: () => void message.success(`${r.rule} is forgotten.`) })}>
                  <Button size="small">Remove</Button>
                </Popconfirm>
              </Space>
            ),
          },
        ]}
      />
    </Card>
  );
}
