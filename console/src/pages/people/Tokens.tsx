import { useQuery } from "@tanstack/react-query";
import { Button, Card, Form, Input, InputNumber, Modal, Popconfirm, Select, Table, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Token } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";
import { Shown } from "../../parts/Shown";
import { type Right, rights } from "./Roles";

interface Given {
  token: string;
  rights?: Right[];
  days: number;
}

/** What programs call with. */
export function Tokens() {
  const [adding, setAdding] = useState(false);
  const [secret, setSecret] = useState<string>();
  const query = useQuery({ queryKey: ["tokens"], queryFn: () => ask(client.GET("/tokens", {})) });
  const remove = useChange((t: Token) => ask(client.DELETE("/tokens/{token}", { params: { path: { token: t.token } } })), ["tokens"]);
  return (
    <Card title="Tokens of programs" extra={<Button onClick={() => setAdding(true)}>Make a token…</Button>} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<Token>
            size="small"
            rowKey="token"
            dataSource={items}
            pagination={false}
            locale={{ emptyText: "None was made." }}
            columns={[
              { title: "Token", render: (_, t) => <b>{t.token}</b> },
              { title: "Person", dataIndex: "person" },
              { title: "Rights", render: (_, t) => t.rights.join(", ") || "all of the person's" },
              { title: "Until", render: (_, t) => when(t.expires) },
              { title: "Last used", render: (_, t) => (t.last_used ? `${when(t.last_used)} from ${t.used_from}` : "never") },
              {
                title: "",
                align: "right",
                render: (_, t) => (
                  <Popconfirm title={`End ${t.token}?`} description="Programs that have it are refused at once." okText="End it" onConfirm={() => remove.mutate(t)}>
                    <Button size="small">End</Button>
                  </Popconfirm>
                ),
              },
            ]}
          />
        )}
      </Shown>
      {adding && <TokenDialog close={() => setAdding(false)} made={setSecret} />}
      {secret && (
        <Modal open title="The token's secret" onCancel={() => setSecret(undefined)} footer={<Button onClick={() => setSecret(undefined)}>Done</Button>}>
          <Typography.Paragraph>It is shown once.</Typography.Paragraph>
          <Typography.Paragraph copyable code style={{ wordBreak: "break-all" }}>
            {secret}
          </Typography.Paragraph>
        </Modal>
      )}
    </Card>
  );
}

function TokenDialog({ close, made }: { close: () => void; made: (secret: string) => void }) {
  const [form] = Form.useForm<Given>();
  const make = useChange((v: Given) => ask(client.POST("/tokens", { body: v })).then((t) => made(t.token_secret)), ["tokens"]);
  return (
    <Modal open title="Make a token of yours" okText="Make it" onCancel={close} confirmLoading={make.isPending} onOk={() => void form.validateFields().then((v) => make.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical" initialValues={{ days: 90 }}>
        <Form.Item name="token" label="Name" rules={[{ required: true, message: "Which?" }]}>
          <Input autoComplete="off" placeholder="nightly-capture" />
        </Form.Item>
        <Form.Item name="rights" label="What it may do at the most" extra="Left empty: all that you may">
          <Select mode="multiple" options={rights.map((r) => ({ label: r, value: r }))} />
        </Form.Item>
        <Form.Item name="days" label="Days that it is good">
          <InputNumber min={1} max={730} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
