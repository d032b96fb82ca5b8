import { Form, Input, InputNumber, Modal, Typography } from "antd";
import { ask, client, Problem, type Build, type NewMedia } from "../../api/client";
import { useChange } from "../../api/useChange";
import { findGroups } from "../../parts/GroupSelect";
import { save } from "../../parts/save";
import { SearchSelect } from "../../parts/SearchSelect";

async function findEntries() {
  const all = await ask(client.GET("/boot-entries", { params: { query: { limit: 100 } } }));
  return all.items.map((e) => ({ value: e.boot_entry, label: e.boot_entry }));
}

/** Makes the image of a stick or disc that boots a build, and has the browser save it. */
export function MediaDialog({ build, close }: { build: Build; close: () => void }) {
  const [form] = Form.useForm<NewMedia>();
  const make = useChange(async (wanted: NewMedia) => {
    const { data, error, response } = await client.POST("/builds/{build}/media", { params: { path: { build: build.number } }, body: wanted, parseAs: "blob" });
    if (!response.ok) throw new Problem(response.status, error?.detail ?? `the service answered ${response.status}`);
    save(`jugate-build-${build.number}.img`, data as unknown as Blob);
  }, []);
  const start = async (filled: NewMedia) => {
    const given = Object.fromEntries(Object.entries(filled).filter(([, v]) => v !== undefined && v !== "" && v !== null));
    await make.mutateAsync(given as unknown as NewMedia);
    close();
  };
  return (
    <Modal open title={`Media of build ${build.number}`} okText="Make and save" onCancel={close} onOk={() => form.submit()} confirmLoading={make.isPending}>
      <Form<NewMedia> form={form} layout="vertical" initialValues={{ service: location.origin }} onFinish={(f) => void start(f).catch(() => undefined)}>
        <Typography.Paragraph type="secondary">
          One file for a USB stick or a disc, which starts by UEFI, with Secure Boot too, and by a BIOS. Whoever has it can check in as a workstation, until its key ends.
        </Typography.Paragraph>
        <Form.Item name="service" label="The service, as workstations reach it" rules={[{ required: true, message: "Where is the service?" }]}>
          <Input />
        </Form.Item>
        <Form.Item name="address" label="Fixed address, where nobody gives one" extra="Or a range, of which each machine takes one that nobody has.">
          <Input placeholder="192.0.2.70-192.0.2.99/24" />
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
