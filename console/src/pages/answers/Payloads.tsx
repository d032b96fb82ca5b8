import { useQuery } from "@tanstack/react-query";
import { Button, Card, Flex, Form, Modal, Popconfirm, Table } from "antd";
import { useState } from "react";
import { ask, client, type Payload } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size, when } from "../../format";
import { Shown } from "../../parts/Shown";
import { TargetSelect } from "../../parts/TargetSelect";
import { UploadButton } from "../../parts/UploadButton";

/** Files and packages that go onto delivered systems. */
export function Payloads() {
  const [bringing, setBringing] = useState<Payload>();
  const query = useQuery({ queryKey: ["payloads"], queryFn: () => ask(client.GET("/payloads", {})) });
  const add = (
    <UploadButton to={(name) => `/api/v1/payloads?payload=${name}`} lists={["payloads"]}>
      Add a payload…
    </UploadButton>
  );
  const remove = useChange((p: Payload) => ask(client.DELETE("/payloads/{payload}", { params: { path: { payload: p.payload } } })), ["payloads"]);
  return (
    <Card title="Payloads" extra={add} styles={{ body: { padding: 0 } }}>
      <Shown query={query}>
        {({ items }) => (
          <Table<Payload>
            size="small"
            rowKey="payload"
            dataSource={items}
            pagination={items.length > 10 ? { pageSize: 10, showSizeChanger: false } : false}
            locale={{ emptyText: "No file or package yet that goes onto delivered systems." }}
            columns={[
              { title: "Payload", render: (_, p) => <b>{p.payload}</b> },
              { title: "Size", width: 100, render: (_, p) => size(p.size_bytes) },
              { title: "Digest", width: 130, render: (_, p) => <code title={p.digest}>{p.digest.slice(0, 12)}</code> },
              { title: "Added", width: 180, render: (_, p) => when(p.added) },
              { title: "Note", dataIndex: "note", ellipsis: true },
              {
                title: "",
                align: "right",
                width: 180,
                render: (_, p) => (
                  <Flex gap={8} justify="end">
                    <Button size="small" onClick={() => setBringing(p)}>
                      Bring…
                    </Button>
                    <Popconfirm title={`Remove ${p.payload}?`} description="Systems that have it keep it." okText="Remove" onConfirm={() => remove.mutate(p)}>
                      <Button size="small">Remove</Button>
                    </Popconfirm>
                  </Flex>
                ),
              },
            ]}
          />
        )}
      </Shown>
      {bringing && <BringDialog payload={bringing} close={() => setBringing(undefined)} />}
    </Card>
  );
}

/** Has workstations bring a payload onto the system that they have. */
function BringDialog({ payload, close }: { payload: Payload; close: () => void }) {
  const [form] = Form.useForm<{ to: string[] }>();
  const bring = useChange(
    (v: { to: string[] }) => ask(client.POST("/payload-errands", { body: { to: v.to, payloads: [payload.payload], install: true, disk: "only" } })),
    ["errands"],
    (all) => `${all?.length ?? 0} ${all?.length === 1 ? "workstation brings" : "workstations bring"} it when they have booted the boot environment`,
  );
  const submit = () => form.validateFields().then((v) => bring.mutate(v, { onSuccess: close }));
  return (
    <Modal open title={`Bring ${payload.payload}`} okText="Bring" onCancel={close} confirmLoading={bring.isPending} onOk={() => void submit()}>
      <p>Onto the system that is on their disks, without an image. A package is installed when the system starts next.</p>
      <Form form={form} layout="vertical">
        <TargetSelect />
      </Form>
    </Modal>
  );
}
