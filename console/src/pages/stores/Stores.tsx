import { useQuery } from "@tanstack/react-query";
import { App, Button, Card, Flex, Form, Input, InputNumber, Modal, Popconfirm, Progress, Table, Tag } from "antd";
import { useState } from "react";
import { ask, client, type NewStore, type Store } from "../../api/client";
import { useChange } from "../../api/useChange";
import { percent, size } from "../../format";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { leaf } from "../../theme";
import { Backups } from "./Backups";
import { Standby } from "./Standby";
import { Password } from "../../parts/Password";

const folder = "folder";

/** Where slabs lie, where backups go, and the copy from which another machine can become the service. */
export function Stores() {
  const [adding, setAdding] = useState(false);
  const [bounding, setBounding] = useState<Store>();
  // How far a version is that is moved changes with time alone; events tell the rest.
  const query = useQuery({ queryKey: ["stores"], queryFn: () => ask(client.GET("/stores", {})), refetchInterval: 5_000 });
  return (
    <>
      <PageTitle title="Stores and backups">
        <Button type="primary" onClick={() => setAdding(true)}>
          Add a store…
        </Button>
      </PageTitle>
      <Shown query={query}>
        {({ items }) => (
          <Flex vertical gap={16}>
            <StoreTable stores={items} bound={setBounding} />
            <Backups stores={items.filter((s) => s.store !== folder)} />
            <Standby stores={items.filter((s) => s.store !== folder)} />
          </Flex>
        )}
      </Shown>
      {adding && <AddDialog close={() => setAdding(false)} />}
      {bounding && <CacheDialog folder={bounding} close={() => setBounding(undefined)} />}
    </>
  );
}

function StoreTable({ stores, bound }: { stores: Store[]; bound: (folder: Store) => void }) {
  const { modal } = App.useApp();
  const use = useChange((s: Store) => ask(client.PATCH("/stores", { body: { store: s.store } })), ["stores"]);
  const move = useChange((s: Store) => ask(client.POST("/stores/{store}/move", { params: { path: { store: s.store } }, body: {} })), ["stores", "images"]);
  const remove = useChange((s: Store) => ask(client.DELETE("/stores/{store}", { params: { path: { store: s.store } } })), ["stores"]);
  const check = useChange(
    async (s: Store) => {
      const found = await ask(client.POST("/stores/{store}/check", { params: { path: { store: s.store } }, body: {} }));
      if (found.sound) modal.success({ title: `${s.store} is sound`, content: "It does all that is asked of a store, and has every slab of its versions." });
      else modal.error({ title: `${s.store} is not sound`, content: found.what_is_wrong.map((f) => <div key={f}>{f}</div>) });
    },
    ["stores"],
  );
  return (
    <Card title="Stores" extra="A new version goes into the data folder, and from there to the store that is in use" styles={{ body: { padding: 0 } }}>
      <Table<Store>
        size="small"
        rowKey="store"
        dataSource={stores}
        pagination={false}
        columns={[
          {
            title: "Store",
            render: (_, s) => (
              <>
                <b>{s.store}</b> {s.in_use && <Tag color="green">new versions go there</Tag>}
                <div style={{ overflowWrap: "anywhere" }}>{s.store === folder ? "in the data folder" : s.place}</div>
              </>
            ),
          },
          {
            title: "State",
            width: 260,
            render: (_, s) => (
              <>
                <Tag color={s.state === "ready" ? "green" : "volcano"}>{s.state}</Tag>
                {s.trouble && <div>{s.trouble}</div>}
              </>
            ),
          },
          { title: "Versions", align: "right", dataIndex: "version_count" },
          {
            title: "On their way",
            align: "right",
            render: (_, s) => (
              <>
                {s.moving_count}
                {s.slabs_to_move > 0 && <Progress aria-label="How far the move is" size="small" percent={percent(s.slabs_moved, s.slabs_to_move)} strokeColor={leaf} style={{ width: 120 }} />}
              </>
            ),
          },
          {
            title: "Bytes",
            align: "right",
            render: (_, s) =>
              s.store === folder ? (
                <>
                  {size(s.bytes_cached ?? 0)} of others, {size(s.cache_bound ?? 0)} at most{" "}
                  <Button size="small" onClick={() => bound(s)}>
                    Change…
                  </Button>
                </>
              ) : (
                <>
                  {size(s.bytes_held)} in {s.pack_count} {s.pack_count === 1 ? "pack" : "packs"}
                  {s.bytes_unneeded > 0 && <div>{size(s.bytes_unneeded)} of no version any more</div>}
                </>
              ),
          },
          {
            title: "",
            align: "right",
            render: (_, s) => (
              <Flex gap={8} justify="end">
                {!s.in_use && (
                  <Button size="small" onClick={() => use.mutate(s)}>
                    Use
                  </Button>
                )}
                <Popconfirm title={`Move all versions to ${s.store}? They stay where they are until they are there.`} okText="Move" onConfirm={() => move.mutate(s)}>
                  <Button size="small">Move all here…</Button>
                </Popconfirm>
                {s.store !== folder && (
                  <>
                    <Button size="small" loading={check.isPending && check.variables?.store === s.store} onClick={() => check.mutate(s)}>
                      Check
                    </Button>
                    <Popconfirm title={`Forget ${s.store}? What lies there stays.`} okText="Remove" onConfirm={() => remove.mutate(s)}>
                      <Button size="small">Remove</Button>
                    </Popconfirm>
                  </>
                )}
              </Flex>
            ),
          },
        ]}
      />
    </Card>
  );
}

function AddDialog({ close }: { close: () => void }) {
  const [form] = Form.useForm<NewStore>();
  const add = useChange((v: NewStore) => ask(client.POST("/stores", { body: v })), ["stores"]);
  return (
    <Modal open title="Add a store" okText="Try and add it" onCancel={close} confirmLoading={add.isPending} onOk={() => void form.validateFields().then((v) => add.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical">
        <Form.Item name="store" label="What it is called" rules={[{ required: true, pattern: /^[a-z0-9][a-z0-9-]*$/, message: "Small letters, digits and hyphens." }]}>
          <Input autoComplete="off" autoFocus placeholder="big" />
        </Form.Item>
        <Form.Item name="place" label="Where it is" extra="A bucket with an S3 interface, or a folder on the service's machine that another one shares." rules={[{ required: true }]}>
          <Input autoComplete="off" placeholder="https://objects.fennholt.example/jugate" />
        </Form.Item>
        <Form.Item name="key_id" label="Id of the access key" extra="Not for a folder.">
          <Input autoComplete="off" />
        </Form.Item>
        <Form.Item name="key_secret" label="Its secret" extra="It is sealed, and not shown again.">
          <Password autoComplete="new-password" />
        </Form.Item>
        <Form.Item name="region" label="Region" extra="Empty for the usual one.">
          <Input autoComplete="off" placeholder="us-east-1" />
        </Form.Item>
      </Form>
    </Modal>
  );
}

const gib = 1024 ** 3;

function CacheDialog({ folder: f, close }: { folder: Store; close: () => void }) {
  const [form] = Form.useForm<{ gib: number }>();
  const change = useChange((v: { gib: number }) => ask(client.PATCH("/stores", { body: { cache_bound: Math.round(v.gib * gib) } })), ["stores"]);
  return (
    <Modal open title="What the data folder may have of others" okText="Change" onCancel={close} confirmLoading={change.isPending} onOk={() => void form.validateFields().then((v) => change.mutate(v, { onSuccess: close }))}>
      <Form form={form} layout="vertical" initialValues={{ gib: Math.round((f.cache_bound ?? 0) / gib) }}>
        <Form.Item name="gib" label="In GiB" extra="Slabs that are elsewhere, too: deliveries read them from here, and what nobody has used for longest goes first." rules={[{ required: true }]}>
          <InputNumber min={0} max={900_000} autoFocus />
        </Form.Item>
      </Form>
    </Modal>
  );
}
