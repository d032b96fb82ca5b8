import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Form, Input, Modal, Popconfirm, Select, Space, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Grant, type Person } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { Directories } from "./Directories";
import { Roles } from "./Roles";
import { Sessions } from "./Sessions";
import { Tokens } from "./Tokens";
import { useScopes } from "./useScopes";

/** Who may sign in, and what they may do. */
export function People() {
  const [changing, setChanging] = useState<Person | "new">();
  const [link, setLink] = useState<{ person: string; secret: string }>();
  const query = useQuery({ queryKey: ["people"], queryFn: () => ask(client.GET("/people", {})) });
  const invite = useChange(
    (person: string) => ask(client.POST("/people/{person}/invitation", { params: { path: { person } } })).then((i) => setLink({ person, secret: i.link_secret })),
    [],
  );
  const shut = useChange((p: Person) => ask(client.PATCH("/people/{person}", { params: { path: { person: p.person } }, body: { shut_out: !p.shut_out } })), ["people", "sessions"]);
  const remove = useChange((p: Person) => ask(client.DELETE("/people/{person}", { params: { path: { person: p.person } } })), ["people", "sessions", "tokens"]);
  return (
    <>
      <PageTitle title="People" />
      <Flex vertical gap={16}>
        <Card title="Who may sign in" extra={<Button onClick={() => setChanging("new")}>Take somebody in…</Button>} styles={{ body: { padding: 0 } }}>
          <Shown query={query}>
            {({ items }) => (
              <Table<Person>
                size="small"
                rowKey="person"
                dataSource={items}
                pagination={false}
                locale={{ emptyText: "Nobody: only the key of last resort opens this console." }}
                columns={[
                  {
                    title: "Person",
                    render: (_, p) => (
                      <>
                        <b>{p.person}</b> <Typography.Text type="secondary">{p.full_name}</Typography.Text>
                      </>
                    ),
                  },
                  { title: "May", render: (_, p) => <Grants all={p.grants} /> },
                  { title: "Signs in", render: (_, p) => <SignsIn person={p} /> },
                  { title: "Last seen", render: (_, p) => (p.last_seen ? when(p.last_seen) : "never") },
                  {
                    title: "",
                    align: "right",
                    render: (_, p) => (
                      <Space size={8}>
                        <Button size="small" onClick={() => setChanging(p)}>
                          Change…
                        </Button>
                        <Button size="small" disabled={!!p.directory} onClick={() => invite.mutate(p.person)}>
                          Link for a password
                        </Button>
                        <Button size="small" onClick={() => shut.mutate(p)}>
                          {p.shut_out ? "Let in" : "Shut out"}
                        </Button>
                        <Popconfirm title={`Remove ${p.person}?`} description="What they did stays on record." okText="Remove" onConfirm={() => remove.mutate(p)}>
                          <Button size="small">Remove</Button>
                        </Popconfirm>
                      </Space>
                    ),
                  },
                ]}
              />
            )}
          </Shown>
        </Card>
        <Directories />
        <Roles />
        <Tokens />
        <Sessions />
      </Flex>
      {changing && <PersonDialog person={changing === "new" ? undefined : changing} close={() => setChanging(undefined)} invite={(name) => invite.mutate(name)} />}
      {link && (
        <Modal open title={`A link for ${link.person}`} onCancel={() => setLink(undefined)} footer={<Button onClick={() => setLink(undefined)}>Done</Button>}>
          <Typography.Paragraph>Whoever opens it sets the password of {link.person}, once, within three days. It is shown here and nowhere else.</Typography.Paragraph>
          <Typography.Paragraph copyable code style={{ wordBreak: "break-all" }}>
            {`${location.origin}/welcome#${link.secret}`}
          </Typography.Paragraph>
        </Modal>
      )}
    </>
  );
}

/** How somebody signs in; a second factor that is lost can be ended here. */
function SignsIn({ person: p }: { person: Person }) {
  const reset = useChange(() => ask(client.PATCH("/people/{person}", { params: { path: { person: p.person } }, body: { reset_second_factor: true } })), ["people"]);
  if (p.shut_out) return <Tag color="red">shut out</Tag>;
  if (!p.has_password && !p.directory) return <Tag>has set no password</Tag>;
  return (
    <Flex gap={8} align="center">
      {p.directory ? `by ${p.directory}` : "by password"}
      {p.has_second_factor && (
        <Popconfirm title={`Has ${p.person} lost the second factor?`} description="It ends, and they can set up another." okText="End it" onConfirm={() => reset.mutate(undefined)}>
          <Button size="small" type="link">
            and code
          </Button>
        </Popconfirm>
      )}
    </Flex>
  );
}

function Grants({ all }: { all: Grant[] }) {
  if (all.length === 0) return <Typography.Text type="secondary">nothing</Typography.Text>;
  return (
    <Flex wrap gap={4}>
      {all.map((g) => (
        <Tag key={g.role + g.on} color={g.role === "administrator" ? "gold" : "green"}>
          {g.on === "everything" ? g.role : `${g.role} of ${g.on.replace("group:", "")}`}
        </Tag>
      ))}
    </Flex>
  );
}

interface Given {
  person: string;
  full_name?: string;
  grants?: Grant[];
}

function PersonDialog({ person, close, invite }: { person?: Person; close: () => void; invite: (name: string) => void }) {
  const [form] = Form.useForm<Given>();
  const { roles, scopes } = useScopes();
  const keep = useChange(
    (v: Given, seen) => {
      const { person: name, ...rest } = v;
      return person ? ask(client.PATCH("/people/{person}", { params: { path: { person: person.person } }, body: rest, ...seen })) : ask(client.POST("/people", { body: { person: name, ...rest } }));
    },
    ["people"],
  );
  const submit = () =>
    form.validateFields().then((v) =>
      keep.mutate(v, {
        onSuccess: () => {
          close();
          if (!person) invite(v.person);
        },
      }),
    );
  return (
    <Modal open title={person ? `Change ${person.person}` : "Take somebody in"} okText={person ? "Change" : "Take in"} onCancel={close} confirmLoading={keep.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={person ?? { grants: [{ role: "reader", on: "everything" }] }}>
        {!person && (
          <Form.Item name="person" label="Name" extra="With which they sign in" rules={[{ required: true, message: "Who?" }]}>
            <Input autoComplete="off" />
          </Form.Item>
        )}
        <Form.Item name="full_name" label="Full name">
          <Input autoComplete="off" />
        </Form.Item>
        <Form.List name="grants">
          {(fields, { add, remove }) => (
            <Flex vertical gap={8}>
              {fields.map((f) => (
                <Flex key={f.key} gap={8}>
                  <Form.Item name={[f.name, "role"]} noStyle rules={[{ required: true, message: "Which role?" }]}>
                    <Select style={{ width: 160 }} placeholder="role" options={roles} />
                  </Form.Item>
                  <Form.Item name={[f.name, "on"]} noStyle>
                    <Select style={{ flex: 1 }} showSearch options={scopes} />
                  </Form.Item>
                  <Button onClick={() => remove(f.name)}>Take away</Button>
                </Flex>
              ))}
              <Button onClick={() => add({ on: "everything" })}>Grant a role</Button>
            </Flex>
          )}
        </Form.List>
      </Form>
    </Modal>
  );
}
