import { useQuery } from "@tanstack/react-query";
import { App, Button, Card, Flex, Form, Input, InputNumber, Modal, Select, Switch, Table, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Backup, type BackupSchedule, type BackupsDue, type Store } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size, when } from "../../format";
import { Shown } from "../../parts/Shown";

/** When backups are made, and those that there are. */
export function Backups({ stores }: { stores: Store[] }) {
  const [open, setOpen] = useState<"schedule" | "make">();
  const [shown, setShown] = useState<string>();
  const due = useQuery({ queryKey: ["stores", "schedule"], queryFn: () => ask(client.GET("/backups/schedule", {})) });
  const of = shown ?? (due.data?.store || stores[0]?.store);
  return (
    <Card
      title="Backups"
      extra={
        <Flex gap={8} align="center">
          {stores.length > 1 && <Select aria-label="Store" size="small" style={{ width: 140 }} value={of} onChange={setShown} options={stores.map((s) => ({ value: s.store, label: s.store }))} />}
          <Button size="small" disabled={stores.length === 0} onClick={() => setOpen("schedule")}>
            When…
          </Button>
          <Button size="small" disabled={stores.length === 0} onClick={() => setOpen("make")}>
            Make one…
          </Button>
        </Flex>
      }
    >
      <Shown query={due}>{(d) => <InWords due={d} stores={stores} />}</Shown>
      {of && <List store={of} />}
      {open === "schedule" && due.data && <ScheduleDialog due={due.data} stores={stores} close={() => setOpen(undefined)} />}
      {open === "make" && of && <MakeDialog store={of} stores={stores} close={() => setOpen(undefined)} />}
    </Card>
  );
}

function InWords({ due: d, stores }: { due: BackupsDue; stores: Store[] }) {
  if (stores.length === 0) return <Typography.Text type="secondary">A backup needs a store outside the data folder: add one.</Typography.Text>;
  if (!d.store) return <Typography.Text type="warning">No backups are made by themselves.</Typography.Text>;
  return (
    <>
      {`Every day at ${d.time_of_day} into ${d.store}, ${d.with_slabs ? "with" : "without"} slabs; ${d.keep_backups} stay.`}
      {d.last_begun && ` The last one began ${when(d.last_begun)}.`}
      {d.trouble && <Typography.Paragraph type="danger">{d.trouble}</Typography.Paragraph>}
    </>
  );
}

function List({ store }: { store: string }) {
  const { modal } = App.useApp();
  const query = useQuery({ queryKey: ["stores", "backups", store], queryFn: () => ask(client.GET("/stores/{store}/backups", { params: { path: { store } } })) });
  const check = useChange(async (b: Backup) => {
    const found = await ask(client.POST("/stores/{store}/backups/{backup}/check", { params: { path: { store, backup: b.backup } } }));
    if (found.sound) modal.success({ title: "The backup is sound", content: `All ${b.file_count} files were read and have the right digest.` });
    else modal.error({ title: "The backup is not sound: make another one", content: found.what_is_wrong.map((f) => <div key={f}>{f}</div>) });
  }, []);
  return (
    <Shown query={query}>
      {({ items }) => (
        <Table<Backup>
          size="small"
          rowKey="backup"
          style={{ marginTop: 12 }}
          dataSource={items}
          pagination={items.length > 10 ? { pageSize: 10 } : false}
          locale={{ emptyText: "No backup there yet." }}
          columns={[
            { title: "Made", render: (_, b) => when(b.made_at) },
            { title: "Files", align: "right", dataIndex: "file_count" },
            { title: "Bytes", align: "right", render: (_, b) => size(b.bytes) },
            { title: "Versions", align: "right", dataIndex: "version_count" },
            { title: "Slabs", render: (_, b) => (b.with_slabs ? "there" : "listed") },
            { title: "By version", dataIndex: "service_version" },
            {
              title: "",
              align: "right",
              render: (_, b) => (
                <Button size="small" loading={check.isPending && check.variables?.backup === b.backup} onClick={() => check.mutate(b)}>
                  Check
                </Button>
              ),
            },
          ]}
        />
      )}
    </Shown>
  );
}

function ScheduleDialog({ due, stores, close }: { due: BackupsDue; stores: Store[]; close: () => void }) {
  const [form] = Form.useForm<BackupSchedule>();
  const change = useChange((v: BackupSchedule) => ask(client.PUT("/backups/schedule", { body: v })), ["stores"]);
  return (
    <Modal open title="When backups are made" okText="Change" onCancel={close} confirmLoading={change.isPending} onOk={() => void form.validateFields().then((v) => change.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical" initialValues={{ ...due, store: due.store || stores[0].store }}>
        <Form.Item name="store" label="Into">
          <Select options={[...stores.map((s) => ({ value: s.store, label: s.store })), { value: "", label: "nowhere: make none" }]} />
        </Form.Item>
        <Form.Item name="time_of_day" label="Every day at" rules={[{ required: true, pattern: /^([01][0-9]|2[0-3]):[0-5][0-9]$/, message: "Such as 02:00." }]}>
          <Input autoComplete="off" />
        </Form.Item>
        <Form.Item name="with_slabs" label="With slabs" valuePropName="checked">
          <Switch />
        </Form.Item>
        <Form.Item name="keep_backups" label="How many stay">
          <InputNumber min={1} max={10_000} />
        </Form.Item>
      </Form>
    </Modal>
  );
}

function MakeDialog({ store, stores, close }: { store: string; stores: Store[]; close: () => void }) {
  const [form] = Form.useForm<{ store: string; with_slabs: boolean }>();
  const make = useChange(
    (v: { store: string; with_slabs: boolean }) => ask(client.POST("/backups", { body: v })),
    ["stores"],
    (b) => `The backup is there: ${b.file_count} files, ${size(b.bytes_sent ?? 0)} of them new.`,
  );
  return (
    <Modal open title="Make a backup" okText="Make it" onCancel={close} confirmLoading={make.isPending} onOk={() => void form.validateFields().then((v) => make.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical" initialValues={{ store, with_slabs: true }}>
        <Form.Item name="store" label="Into">
          <Select options={stores.map((s) => ({ value: s.store, label: s.store }))} />
        </Form.Item>
        <Form.Item name="with_slabs" label="With slabs" valuePropName="checked" extra="What is there already is not sent again. A backup has the private keys of the service: let nobody read the store who may not have them.">
          <Switch />
        </Form.Item>
      </Form>
    </Modal>
  );
}
