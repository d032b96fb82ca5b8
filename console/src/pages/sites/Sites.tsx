import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Form, Input, Modal, Popconfirm, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type NewOutpost, type Outpost, type OutpostCode } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size, when } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { Details } from "./Details";

const colours: Record<Outpost["state"], string> = { up: "green", away: "volcano", expected: "gold", withdrawn: "default" };

const words: Record<Outpost["state"], string> = {
  up: "It answers",
  away: "It has not called for a while; its machines boot from their disks",
  expected: "It has not joined yet",
  withdrawn: "It is trusted no more",
};

/** Outposts: what each answers, what it holds, and the code that one joins by. */
export function Sites() {
  const [adding, setAdding] = useState(false);
  const [code, setCode] = useState<OutpostCode>();
  // Who is away changes with time alone; events tell the rest.
  const query = useQuery({ queryKey: ["outposts"], queryFn: () => ask(client.GET("/outposts", {})), refetchInterval: 15_000 });
  const again = useChange(async (o: Outpost) => setCode(await ask(client.POST("/outposts/{outpost}/code", { params: { path: { outpost: o.outpost } } }))), ["outposts"]);
  const withdraw = useChange((o: Outpost) => ask(client.POST("/outposts/{outpost}/withdraw", { params: { path: { outpost: o.outpost } } })), ["outposts"]);
  const remove = useChange((o: Outpost) => ask(client.DELETE("/outposts/{outpost}", { params: { path: { outpost: o.outpost } } })), ["outposts"]);
  return (
    <>
      <PageTitle title="Sites">
        <Button type="primary" onClick={() => setAdding(true)}>
          Add an outpost…
        </Button>
      </PageTitle>
      <Card title="Outposts" extra="They answer network boot at other sites, and hold what machines there need" styles={{ body: { padding: 0 } }}>
        <Shown query={query}>
          {({ items }) => (
            <Table<Outpost>
              size="small"
              rowKey="outpost"
              dataSource={items}
              pagination={false}
              locale={{ emptyText: "None yet: add one for a room behind a slow line or a router." }}
              expandable={{ expandedRowRender: (o) => <Details name={o.outpost} /> }}
              columns={[
                {
                  title: "Outpost",
                  render: (_, o) => (
                    <>
                      <b>{o.outpost}</b>
                      {o.note && <div>{o.note}</div>}
                    </>
                  ),
                },
                {
                  title: "State",
                  render: (_, o) => (
                    <>
                      <Tag color={colours[o.state]} title={words[o.state]} style={{ marginInlineEnd: 4 }}>
                        {o.state}
                      </Tag>
                      {o.on_media && <Tag title="A machine that was started from media: it comes and goes with them">on media</Tag>}
                      {o.trouble && <div>{o.trouble}</div>}
                    </>
                  ),
                },
                { title: "Last heard", render: (_, o) => (o.last_seen ? when(o.last_seen) : "never") },
                { title: "Address", dataIndex: "address" },
                { title: "Workstations", align: "right", dataIndex: "workstation_count" },
                { title: "Builds", render: (_, o) => [...o.builds].reverse().slice(0, 5).join(", ") },
                { title: "Slabs", align: "right", render: (_, o) => size(o.bytes_held) },
                { title: "Over the line", align: "right", render: (_, o) => size(o.bytes_fetched) },
                {
                  title: "",
                  align: "right",
                  render: (_, o) => (
                    <Flex gap={8} justify="end">
                      {!o.on_media && (
                      <Popconfirm
                        title={o.state === "expected" ? `Make another code for ${o.outpost}?` : `Make a code for ${o.outpost}? When it is used, the machine that is there now is its outpost no more.`}
                        okText="Make a code"
                        onConfirm={() => again.mutate(o)}
                      >
                        <Button size="small">Code…</Button>
                      </Popconfirm>
                      )}
                      {o.state === "withdrawn" || o.state === "expected" ? (
                        <Popconfirm title={`Forget ${o.outpost}?`} okText="Remove" onConfirm={() => remove.mutate(o)}>
                          <Button size="small">Remove</Button>
                        </Popconfirm>
                      ) : (
                        <Popconfirm title={`End the trust in ${o.outpost}? Its machines find no service by it from then on.`} okText="Withdraw" onConfirm={() => withdraw.mutate(o)}>
                          <Button size="small" danger>
                            Withdraw
                          </Button>
                        </Popconfirm>
                      )}
                    </Flex>
                  ),
                },
              ]}
            />
          )}
        </Shown>
      </Card>
      {adding && (
        <AddDialog
          close={() => setAdding(false)}
          added={(c) => {
            setAdding(false);
            setCode(c);
          }}
        />
      )}
      {code && <CodeDialog code={code} close={() => setCode(undefined)} />}
    </>
  );
}

function AddDialog({ close, added }: { close: () => void; added: (code: OutpostCode) => void }) {
  const [form] = Form.useForm<NewOutpost>();
  const add = useChange((v: NewOutpost) => ask(client.POST("/outposts", { body: v })), ["outposts"]);
  return (
    <Modal open title="Add an outpost" okText="Add" onCancel={close} confirmLoading={add.isPending} onOk={() => void form.validateFields().then((v) => add.mutate(v, { onSuccess: added }))}>
      <Form form={form} layout="vertical">
        <Form.Item name="outpost" label="What its site is called" rules={[{ required: true, pattern: /^[a-z0-9][a-z0-9-]*$/, message: "Small letters, digits and hyphens." }]}>
          <Input autoComplete="off" autoFocus placeholder="alpine" />
        </Form.Item>
        <Form.Item name="note" label="Note">
          <Input autoComplete="off" placeholder="in the Alpine house, across the river" />
        </Form.Item>
      </Form>
    </Modal>
  );
}

function CodeDialog({ code, close }: { code: OutpostCode; close: () => void }) {
  const command = `jugate-outpost --service ${location.origin} --join ${code.join_code} \\\n  --listen ADDRESS:7460 --netboot INTERFACE=beside`;
  return (
    <Modal open footer={null} width={720} onCancel={close} title={`Start this on the machine at ${code.outpost}`}>
      <Typography.Paragraph copyable={{ text: command }} code style={{ whiteSpace: "pre-wrap" }}>
        {command}
      </Typography.Paragraph>
      {`The code is good until ${when(code.until)}, once, and is not shown again. It names this service's authority, so that the outpost tells it to nobody else.`}
    </Modal>
  );
}
