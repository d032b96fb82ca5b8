import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Form, Input, Modal, Popconfirm, Select, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type NewRole, type Role } from "../../api/client";
import { useChange } from "../../api/useChange";
import { Shown } from "../../parts/Shown";

export type Right = NewRole["rights"][number];

const known: Record<Right, true> = {
  see: true,
  admit: true,
  "set-answers": true,
  capture: true,
  deliver: true,
  wipe: true,
  "run-orders": true,
  "keep-images": true,
  "keep-drivers": true,
  "keep-entries": true,
  "keep-sites": true,
  administer: true,
};

/** All rights. */
export const rights = Object.keys(known) as Right[];

/** Sets of rights, those of every service and those of this one. */
export function Roles() {
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["roles"], queryFn: () => ask(client.GET("/roles", {})) });
  const remove = useChange((r: Role) => ask(client.DELETE("/roles/{role}", { params: { path: { role: r.role } } })), ["roles"]);
  return (
    <Card title="Roles" extra={<Button onClick={() => setAdding(true)}>Add a role…</Button>} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<Role>
            size="small"
            rowKey="role"
            dataSource={items}
            pagination={false}
            columns={[
              { title: "Role", width: 160, render: (_, r) => <b>{r.role}</b> },
              { title: "Rights", render: (_, r) => (r.rights.length === rights.length ? "everything" : <Rights all={r.rights} />) },
              { title: "Note", dataIndex: "note" },
              {
                title: "",
                align: "right",
                width: 110,
                render: (_, r) =>
                  !r.built_in && (
                    <Popconfirm title={`Remove the role ${r.role}?`} okText="Remove" onConfirm={() => remove.mutate(r)}>
                      <Button size="small">Remove</Button>
                    </Popconfirm>
                  ),
              },
            ]}
          />
        )}
      </Shown>
      {adding && <RoleDialog close={() => setAdding(false)} />}
    </Card>
  );
}

function Rights({ all }: { all: string[] }) {
  return (
    <Flex wrap gap={4}>
      {all.map((r) => (
        <Tag key={r}>{r}</Tag>
      ))}
    </Flex>
  );
}

function RoleDialog({ close }: { close: () => void }) {
  const [form] = Form.useForm<NewRole>();
  const keep = useChange((v: NewRole, seen) => ask(client.PUT("/roles", { body: v, ...seen })), ["roles"]);
  return (
    <Modal open title="Add a role" okText="Add" onCancel={close} confirmLoading={keep.isPending} onOk={() => void form.validateFields().then((v) => keep.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical">
        <Form.Item name="role" label="Name" rules={[{ required: true, message: "Which?" }]}>
          <Input autoComplete="off" />
        </Form.Item>
        <Form.Item name="rights" label="Rights" rules={[{ required: true, message: "Which?" }]}>
          <Select mode="multiple" options={rights.map((r) => ({ label: r, value: r }))} />
        </Form.Item>
        <Form.Item name="note" label="Note">
          <Input autoComplete="off" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
