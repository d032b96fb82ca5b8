import { Alert, App, Checkbox, Form, Input, Modal, Radio, Select } from "antd";
import { ask, client, type BootChoice, type BootEntry } from "../../api/client";
import { useChange } from "../../api/useChange";
import { TargetSelect } from "../../parts/TargetSelect";

interface Filled {
  to: string[];
  when: "once" | "always" | "never";
  values?: Record<string, string | undefined>;
  sure?: boolean;
}

/** Has workstations boot a boot entry in place of their disk. */
export function BootDialog({ entry, close }: { entry: BootEntry; close: () => void }) {
  const [form] = Form.useForm<Filled>();
  const { modal } = App.useApp();
  const when = Form.useWatch("when", form) ?? "once";
  const choose = useChange(
    async (c: BootChoice) => {
      const made = await ask(client.POST("/boot-choices", { body: c }));
      if (made.taken_out.length > 0) {
        modal.warning({ title: "Some cannot start it", content: made.taken_out.map((l) => <div key={l.workstation}>{`${l.workstation}: ${l.reason}`}</div>) });
      }
      return made;
    },
    ["boot-entries", "boot-starts"],
    (made) => `${[...made.workstations, ...made.groups].join(", ")}: ${when === "never" ? "boots as usual" : `${entry.boot_entry} ${when === "once" ? "at the next start" : "at every start"}`}`,
  );
  const start = async (f: Filled) => {
    const values = Object.fromEntries(Object.entries(f.values ?? {}).filter((v): v is [string, string] => !!v[1]));
    await choose.mutateAsync({ to: f.to, when_started: f.when, ...(f.when === "never" ? {} : { boot_entry: entry.boot_entry, values }) });
    close();
  };
  return (
    <Modal open title={`Boot ${entry.title || entry.boot_entry}`} okText={when === "never" ? "Boot as usual" : "Boot it"} onCancel={close} onOk={() => form.submit()} confirmLoading={choose.isPending}>
      <Form<Filled> form={form} layout="vertical" initialValues={{ when: "once" }} onFinish={(f) => void start(f).catch(() => undefined)}>
        <TargetSelect />
        <Form.Item name="when" label="When">
          <Radio.Group
            options={[
              { value: "once", label: "once, at the next start" },
              { value: "always", label: "at every start", disabled: entry.destroys },
              { value: "never", label: "not any more" },
            ]}
          />
        </Form.Item>
        {when !== "never" &&
          (entry.parameters ?? []).map((p) => (
            <Form.Item key={p.parameter} name={["values", p.parameter]} label={p.ask}>
              {p.choices?.length ? <Select allowClear placeholder={p.default} options={p.choices.map((c) => ({ value: c, label: c }))} /> : <Input placeholder={p.default} />}
            </Form.Item>
          ))}
        {when !== "never" && entry.destroys && (
          <>
            <Alert type="error" showIcon title="It destroys all that is on the disk, without asking at the workstation." style={{ marginBottom: 12 }} />
            <Form.Item name="sure" valuePropName="checked" rules={[{ validator: (_, v) => (v ? Promise.resolve() : Promise.reject(new Error("Say so, if that is intended."))) }]}>
              <Checkbox>All data on those disks may be lost</Checkbox>
            </Form.Item>
          </>
        )}
      </Form>
    </Modal>
  );
}
