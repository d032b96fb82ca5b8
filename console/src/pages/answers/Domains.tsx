import { useQuery } from "@tanstack/react-query";
import { Button, Card, Form, Input, Modal, Table } from "antd";
import { useState } from "react";
import { ask, client, type Domain, type NewDomain } from "../../api/client";
import { useChange } from "../../api/useChange";
import { CheckOrRemove } from "../../parts/CheckOrRemove";
import { Shown } from "../../parts/Shown";
import { Password } from "../../parts/Password";

/** The domains that copies can join, each with the account that creates computers in it. */
export function Domains() {
  const [adding, setAdding] = useState(false);
  const query = useQuery({ queryKey: ["domains"], queryFn: () => ask(client.GET("/domains", {})) });
  const check = useChange(
    (d: Domain) => ask(client.POST("/domains/{domain}/check", { params: { path: { domain: d.domain } } })),
    [],
    (c) => `${c.controller} lets computers be created in ${c.unit}`,
  );
  const remove = useChange((d: Domain) => ask(client.DELETE("/domains/{domain}", { params: { path: { domain: d.domain } } })), ["domains"]);
  return (
    <Card title="Domains" extra={<Button onClick={() => setAdding(true)}>Add a domain…</Button>} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<Domain>
            size="small"
            rowKey="domain"
            dataSource={items}
            pagination={false}
            locale={{ emptyText: "None was entered, so copies join no domain." }}
            columns={[
              { title: "Domain", render: (_, d) => <b>{d.domain}</b> },
              { title: "Controller", dataIndex: "server" },
              { title: "Account", dataIndex: "account" },
              { title: "Unit", dataIndex: "unit", ellipsis: true },
              {
                title: "",
                align: "right",
                width: 180,
                render: (_, d) => <CheckOrRemove name={d.domain} loses="Its computers stay in it." checking={check.isPending} onCheck={() => check.mutate(d)} onRemove={() => remove.mutate(d)} />,
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
  const [form] = Form.useForm<NewDomain>();
  const add = useChange((d: NewDomain) => ask(client.POST("/domains", { body: d })), ["domains"], (c) => `${c.domain} is entered; ${c.controller} has answered`);
  const submit = () => form.validateFields().then((d) => add.mutate({ ...d, server: d.server || undefined, certificate: d.certificate || undefined }, { onSuccess: close }));
  return (
    <Modal open style={{ top: 24 }} title="Add a domain" okText="Try and add" onCancel={close} confirmLoading={add.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical">
        <Form.Item name="domain" label="Domain" rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="fennholt.example" />
        </Form.Item>
        <Form.Item name="server" label="Domain controller" extra="By default whoever answers at the domain's own name">
          <Input placeholder="ldaps://dc1.fennholt.example" />
        </Form.Item>
        <Form.Item name="account" label="Account that creates computers" extra="It needs the right to create computers in the unit, and no other." rules={[{ required: true, message: "Which?" }]}>
          <Input placeholder="jugate@fennholt.example" autoComplete="off" />
        </Form.Item>
        <Form.Item name="password" label="Its password" extra="Sealed in the records, and never shown" rules={[{ required: true, message: "It is needed to sign in." }]}>
          <Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item name="unit" label="Unit" rules={[{ required: true, message: "Where?" }]}>
          <Input placeholder="OU=Workstations,DC=fennholt,DC=example" />
        </Form.Item>
        <Form.Item name="certificate" label="Certificate of the directory's authority" extra="In PEM; leave it empty if this machine trusts it already">
          <Input.TextArea rows={3} />
        </Form.Item>
      </Form>
    </Modal>
  );
}
