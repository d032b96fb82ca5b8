import { Checkbox, Flex, Form, Input, InputNumber, Modal, Select } from "antd";
import { ask, client, type BootEntry, type BootEntrySettings } from "../../api/client";
import { useChange } from "../../api/useChange";
import { findGroups } from "../../parts/GroupSelect";
import { SearchSelect } from "../../parts/SearchSelect";

const forms = [
  { value: "none", label: "none" },
  { value: "preseed", label: "preseed" },
  { value: "kickstart", label: "kickstart" },
  { value: "text", label: "another text" },
];

/** For whom a boot entry is, who sees it, and what it is told. */
export function EntryDialog({ entry, close }: { entry: BootEntry; close: () => void }) {
  const [form] = Form.useForm<BootEntrySettings>();
  const save = useChange(
    (set: BootEntrySettings, seen) => ask(client.PUT("/boot-entries/{boot_entry}", { params: { path: { boot_entry: entry.boot_entry } }, body: set, ...seen })),
    ["boot-entries"],
    () => "The settings of the boot entry are kept.",
  );
  const keep = async (filled: BootEntrySettings) => {
    await save.mutateAsync({ ...settings(entry), ...filled, reads: filled.reads || undefined });
    close();
  };
  return (
    <Modal open width={720} title={`Settings of ${entry.boot_entry}`} okText="Keep" onCancel={close} onOk={() => form.submit()} confirmLoading={save.isPending}>
      <Form<BootEntrySettings> form={form} layout="vertical" initialValues={settings(entry)} onFinish={(f) => void keep(f).catch(() => undefined)}>
        <Flex gap={12}>
          <Form.Item name="title" label="Menus call it" style={{ flex: 1 }}>
            <Input maxLength={60} placeholder={entry.boot_entry} />
          </Form.Item>
          <Form.Item name="position" label="Place in menus">
            <InputNumber min={-1000} max={1000} />
          </Form.Item>
          <Form.Item name="pinned_version" label="Version">
            <Select style={{ width: 140 }} options={[{ value: 0, label: "the newest" }, ...entry.entry_versions.map((v) => ({ value: v.version, label: String(v.version) }))]} />
          </Form.Item>
        </Flex>
        <Flex gap={12}>
          <Form.Item name="to" label="For" style={{ flex: 1 }}>
            <SearchSelect name="entry-groups" find={findGroups} mode="multiple" placeholder="All workstations" />
          </Form.Item>
          <Form.Item name="where" label="Of those, who fits" style={{ flex: 1 }}>
            <Input placeholder={'model == "A310"'} />
          </Form.Item>
        </Flex>
        <Form.Item name="released" label="Who sees it" extra="Roles; everybody has it in boot menus without signing in. Who may deliver to a workstation sees it there after signing in.">
          <Select mode="tags" placeholder="who may deliver" options={[{ value: "everybody", label: "everybody" }]} />
        </Form.Item>
        <Form.Item name="hidden" valuePropName="checked" style={{ marginBottom: 8 }}>
          <Checkbox>Hidden: in no menu</Checkbox>
        </Form.Item>
        <Form.Item name="words" label="Words for its kernel" extra="A template over the workstation's answers, such as hostname={{.computer_name}}; empty for what fits.">
          <Input style={{ fontFamily: "monospace" }} />
        </Form.Item>
        <Form.Item name="reads" label="It reads an answer file">
          <Select allowClear placeholder="as recognised" options={forms} />
        </Form.Item>
        <Form.Item name="answer_template" label="Template of the answer file" extra="Empty for the ready-made one.">
          <Input.TextArea rows={4} style={{ fontFamily: "monospace" }} />
        </Form.Item>
        <Form.Item name="erases" valuePropName="checked">
          <Checkbox>It destroys what is on the disk without asking</Checkbox>
        </Form.Item>
      </Form>
    </Modal>
  );
}

/** What is said of a boot entry, without what was recognised. */
const settings = (e: BootEntry): BootEntrySettings => ({
  title: e.title,
  note: e.note,
  hidden: e.hidden,
  position: e.position,
  to: e.to,
  where: e.where,
  released: e.released,
  pinned_version: e.pinned_version ?? 0,
  words: e.words,
  reads: e.reads,
  answer_template: e.answer_template,
  parameters: e.parameters,
  erases: e.erases,
});
