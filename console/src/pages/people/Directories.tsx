import { useQuery } from "@tanstack/react-query";
import { Alert, Button, Card, Flex, Form, Input, Modal, Select, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type Directory, type NewDirectory } from "../../api/client";
import { useChange } from "../../api/useChange";
import { CheckOrRemove } from "../../parts/CheckOrRemove";
import { Shown } from "../../parts/Shown";
import { useScopes } from "./useScopes";
import { Password } from "../../parts/Password";

/** The directories that people come from, and what their groups may do here. */
export function Directories() {
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["directories"], queryFn: () => ask(client.GET("/directories", {})) });
  const check = useChange(
    (d: Directory) => ask(client.POST("/directories/{directory}/check", { params: { path: { directory: d.directory } } })),
    [],
    (c) => `${c.directory} answers, is trusted, and has ${c.checked_groups.every((g) => g.found) ? "all groups" : "not all groups"}`,
  );
  const remove = useChange((d: Directory) => ask(client.DELETE("/directories/{directory}", { params: { path: { directory: d.directory } } })), ["directories", "people", "sessions"]);
  return (
    <Card title="Directories" extra={<Button onClick={() => setAdding(true)}>Add a directory…</Button>} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<Directory>
            size="small"
            rowKey="directory"
            dataSource={items}
            pagination={false}
            locale={{ emptyText: "None was entered: all people are the service's own." }}
            columns={[
              { title: "Directory", render: (_, d) => <b>{d.directory}</b> },
              { title: "Server", dataIndex: "server" },
              { title: "Account", dataIndex: "account", ellipsis: true },
              {
                title: "Its groups may",
                render: (_, d) => (
                  <Flex wrap gap={4}>
                    {d.group_roles.map((r) => (
                      <Tag key={r.group_name + r.role + r.on} color="green">
                        {`${r.group_name}: ${r.role}${r.on === "everything" ? "" : ` of ${r.on.replace("group:", "")}`}`}
                      </Tag>
                    ))}
                  </Flex>
                ),
              },
              {
                title: "",
                align: "right",
                width: 180,
                render: (_, d) => <CheckOrRemove name={d.directory} loses="The people who came from it can sign in no more." checking={check.isPending} onCheck={() => check.mutate(d)} onRemove={() => remove.mutate(d)} />,
              },
            ]}
          />
        )}
      </Shown>
      {adding && <AddDialog close={() => setAdding(false)} />}
    </Card>
  );
}

function AddDialog({ close }: { close: () => void }) {
  const [form] = Form.useForm<NewDirectory>();
  const { roles, scopes } = useScopes();
  const server = Form.useWatch("server", form) ?? "";
  const name = Form.useWatch("directory", form) || "NAME";
  const add = useChange((d: NewDirectory) => ask(client.POST("/directories", { body: d })), ["directories"], (c) => `${c.directory} is entered; it has answered`);
  const submit = () => form.validateFields().then((d) => add.mutate({ ...d, certificate: d.certificate || undefined }, { onSuccess: close }));
  const provider = server.startsWith("http");
  return (
    <Modal open style={{ top: 24 }} title="Add a directory" okText="Try and add" onCancel={close} confirmLoading={add.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ group_roles: [{ role: "reader", on: "everything" }] }}>
        <Form.Item name="directory" label="Name" extra="How it is called here" rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="garden" />
        </Form.Item>
        <Form.Item name="server" label="Server" extra="ldaps://HOST, or the https address of an OpenID provider" rules={[{ required: true, message: "Where?" }]}>
          <Input placeholder="ldaps://dc1.fennholt.example" />
        </Form.Item>
        {provider && <Alert type="info" showIcon title={`It has to send people back to ${location.origin}/signin/${name}/back`} style={{ marginBottom: 16 }} />}
        <Form.Item name="account" label={provider ? "The client's id" : "Account that searches"} extra={provider ? undefined : "It needs no right but to read."} rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="jugate@fennholt.example" autoComplete="off" />
        </Form.Item>
        <Form.Item name="password" label={provider ? "The client's secret" : "Its password"} extra="Sealed in the records, and never shown" rules={[{ required: true, message: "It is needed." }]}>
          <Password autoComplete="new-password" />
        </Form.Item>
        {!provider && (
          <Form.Item name="base_name" label="Below" extra="Where people and groups are" rules={[{ required: true, message: "Where?" }]}>
            <Input placeholder="DC=fennholt,DC=example" />
          </Form.Item>
        )}
        <Form.Item name="certificate" label="Certificate of its authority" extra="In PEM; leave it empty if the service's machine trusts it already">
          <Input.TextArea rows={2} />
        </Form.Item>
        <Form.List name="group_roles">
          {(rows, { add: more, remove }) => (
            <Form.Item label="What members of its groups may do here">
              {rows.map((row) => (
                <Flex key={row.key} gap={8} style={{ marginBottom: 8 }}>
                  <Form.Item name={[row.name, "group_name"]} noStyle rules={[{ required: true, message: "Which group?" }]}>
                    <Input placeholder="Herbarium Team" />
                  </Form.Item>
                  <Form.Item name={[row.name, "role"]} noStyle>
                    <Select options={roles} style={{ width: 140 }} />
                  </Form.Item>
                  <Form.Item name={[row.name, "on"]} noStyle>
                    <Select options={scopes} showSearch style={{ width: 180 }} />
                  </Form.Item>
                  <Button onClick={() => remove(row.name)}>×</Button>
                </Flex>
              ))}
              <Button size="small" onClick={() => more({ role: "reader", on: "everything" })}>
                Another group
              </Button>
            </Form.Item>
          )}
        </Form.List>
      </Form>
    </Modal>
  );
}
