import { Alert, Form, Input, InputNumber, Modal, Radio, Select, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, Problem, type Build, type NewMedia } from "../../api/client";
import { useChange } from "../../api/useChange";
import { findImages } from "../../parts/findImages";
import { findGroups } from "../../parts/GroupSelect";
import { save } from "../../parts/save";
import { SearchSelect } from "../../parts/SearchSelect";
import { TargetSelect } from "../../parts/TargetSelect";

async function findEntries() {
  const all = await ask(client.GET("/boot-entries", { params: { query: { limit: 100 } } }));
  return all.items.map((e) => ({ value: e.boot_entry, label: e.boot_entry }));
}

type Filled = Pick<NewMedia, "service" | "address" | "gateway" | "with_entries" | "group" | "hours" | "outpost"> & {
  kind: "boot" | "carry" | "outpost";
  image?: string;
  to?: string[];
  whenDone?: "stay" | "restart" | "power-off";
  whole?: boolean;
  pool?: string;
  room?: number;
};

/** What the service is asked for. */
function wantedOf({ kind, image, to, whenDone, whole, pool, room, ...filled }: Filled): NewMedia {
  const wanted: NewMedia = { ...filled };
  if (kind === "boot") delete wanted.outpost;
  if (kind === "outpost") {
    wanted.netboot = whole ? "whole" : "beside";
    if (whole && pool) wanted.address_pools = [pool];
    if (room) wanted.room = Math.round(room * 1e9);
  }
  if (kind !== "boot" && image && to?.length) wanted.deliver = { image, to, start: kind === "carry" ? "first" : "all", when_done: whenDone ?? "power-off", disk: "only", grow: "system", domain_away: "refuse", with_answers: "set" };
  return Object.fromEntries(Object.entries(wanted).filter(([, v]) => v !== undefined && v !== "" && v !== null)) as unknown as NewMedia;
}

/** Makes the image of a stick or disc that boots a build, and has the browser save it. */
export function MediaDialog({ build, close }: { build: Build; close: () => void }) {
  const [form] = Form.useForm<Filled>();
  const kind = Form.useWatch("kind", form) ?? "boot";
  const whole = Form.useWatch("whole", form) ?? false;
  const [made, setMade] = useState<{ outpost: string; delivery: string | null }>();
  const make = useChange(async (wanted: NewMedia) => {
    const { data, error, response } = await client.POST("/builds/{build}/media", { params: { path: { build: build.number } }, body: wanted, parseAs: "blob" });
    if (!response.ok) throw new Problem(response.status, error?.detail ?? `the service answered ${response.status}`);
    const outpost = response.headers.get("Jugate-Outpost");
    save(outpost ? `jugate-${outpost}.img` : `jugate-build-${build.number}.img`, data as unknown as Blob);
    return outpost ? { outpost, delivery: response.headers.get("Jugate-Delivery") } : undefined;
  }, ["outposts"]);
  const start = async (filled: Filled) => {
    const out = await make.mutateAsync(wantedOf(filled));
    if (out) setMade(out);
    else close();
  };
  if (made)
    return (
      <Modal open title={`Media of build ${build.number}`} onCancel={close} onOk={close} cancelButtonProps={{ style: { display: "none" } }}>
        <Typography.Paragraph>
          The browser has saved <b>jugate-{made.outpost}.img</b>: write it onto a stick as it is. It is the outpost {made.outpost} on the page <Link to="/sites">Sites</Link>.
        </Typography.Paragraph>
        {made.delivery && (
          <Typography.Paragraph>
            It carries <Link to={`/deliveries/${made.delivery}`}>delivery {made.delivery}</Link>, which is open until the stick has handed its receipts in: when it is started where it finds the service, or by
            <Typography.Text code>jugate-outpost --data FOLDER --hand-in</Typography.Text>.
          </Typography.Paragraph>
        )}
      </Modal>
    );
  return (
    <Modal open width={640} title={`Media of build ${build.number}`} okText="Make and save" onCancel={close} onOk={() => form.submit()} confirmLoading={make.isPending}>
      <Form<Filled> form={form} layout="vertical" initialValues={{ service: location.origin, kind: "boot", whenDone: "power-off", whole: false }} onFinish={(f) => void start(f).catch(() => undefined)}>
        <Typography.Paragraph type="secondary">
          One file for a USB stick or a disc, which starts by UEFI, with Secure Boot too, and by a BIOS. Whoever has it can check in as a workstation, until its key ends.
        </Typography.Paragraph>
        <Form.Item name="kind" label="What a machine that is started from it does">
          <Radio.Group
            style={{ display: "flex", flexDirection: "column", gap: 4 }}
            options={[
              { value: "boot", label: "It calls the service" },
              { value: "carry", label: "It gets an image from the stick" },
              { value: "outpost", label: "It is the outpost of its room" },
            ]}
          />
        </Form.Item>
        <Form.Item name="service" label="The service, as workstations reach it" rules={[{ required: true, message: "Where is the service?" }]}>
          <Input />
        </Form.Item>
        {kind !== "boot" && (
          <>
            <Form.Item name="outpost" label="Name of the outpost" extra="By default the next that is free, such as media-1.">
              <Input placeholder="media-1" autoComplete="off" />
            </Form.Item>
            <Form.Item
              name="image"
              label="Image that it carries"
              extra="Its newest version. Without a line to the service, that is what there is."
              rules={[{ required: kind === "carry", message: "Which image?" }]}
            >
              <SearchSelect name="media-image" find={findImages} allowClear placeholder={kind === "carry" ? "Image" : "None"} />
            </Form.Item>
            <Form.Item noStyle shouldUpdate>
              {() => (kind === "carry" || form.getFieldValue("image")) && (
                <>
                  <TargetSelect />
                  <Alert type="warning" showIcon style={{ marginBottom: 16 }} title="Whoever of these is started from it has its disk overwritten. Answers, with passwords that are among them, lie on the stick." />
                  <Form.Item name="whenDone" label="When the disk is right">
                    <Select options={[{ value: "power-off", label: "Switch off" }, { value: "restart", label: "Restart" }, { value: "stay", label: "Stay" }]} />
                  </Form.Item>
                </>
              )}
            </Form.Item>
          </>
        )}
        {kind === "outpost" && (
          <>
            <Form.Item name="whole" label="Addresses in the room">
              <Radio.Group options={[{ value: false, label: "Another server gives them" }, { value: true, label: "This outpost gives them" }]} />
            </Form.Item>
            {whole && (
              <Form.Item name="pool" label="Which" rules={[{ required: true, message: "Which addresses?" }]}>
                <Input placeholder="198.51.100.100-198.51.100.199/24" />
              </Form.Item>
            )}
            <Form.Item name="room" label="Room on it for slabs that come over the line, in GB" extra="Without, they are kept in memory.">
              <InputNumber min={0.1} max={4000} placeholder="none" />
            </Form.Item>
          </>
        )}
        <Form.Item
          name="address"
          label={kind === "outpost" ? "Address of the outpost" : "Fixed address, where nobody gives one"}
          extra={kind === "outpost" ? undefined : "Or a range, of which each machine takes one that nobody has."}
          rules={[{ required: kind === "outpost" && whole, message: "Who gives addresses has one itself." }]}
        >
          <Input placeholder={kind === "outpost" ? "198.51.100.1/24" : "192.0.2.70-192.0.2.99/24"} />
        </Form.Item>
        <Form.Item name="gateway" label="Router">
          <Input placeholder="192.0.2.1" />
        </Form.Item>
        <Form.Item name="with_entries" label="Boot entries that it carries, too">
          <SearchSelect name="media-entries" find={findEntries} mode="multiple" placeholder="None" />
        </Form.Item>
        <Form.Item name="group" label="For workstations of this group alone">
          <SearchSelect name="media-group" find={findGroups} allowClear placeholder="Any" />
        </Form.Item>
        <Form.Item name="hours" label="Hours for which its key is good">
          <InputNumber min={1} max={87600} placeholder="no end" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
