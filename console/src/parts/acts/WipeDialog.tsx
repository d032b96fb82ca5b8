import { Alert, Checkbox, Form, Input, Modal, Radio } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size } from "../../format";
import { inWords, refs } from "./chosen";

interface Wiping {
  wipe_method: "clear" | "purge";
  read_back: "sample" | "whole";
  retire?: boolean;
  word: string;
}

const lost = (w: Workstation) => `${w.image || "something that Jugate has not brought"}, ${w.disk_sizes.map(size).join(" + ")}`;

/** Asks twice: what is lost is shown, and the name, or how many they are, is typed. */
export function WipeDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Wiping>();
  const one = chosen.length === 1;
  const word = inWords(chosen);
  const wipe = useChange(
    (v: Wiping) => ask(client.POST("/wipes", { body: { wipe_method: v.wipe_method, read_back: v.read_back, retire: v.retire, workstations: refs(chosen), disk: "only", when_done: "stay" } })),
    ["errands", "workstations"],
    () => (one ? `The disk of ${word} is wiped as soon as it is in the boot environment; its receipt says how.` : `The disks of ${word} are wiped as soon as they are in the boot environment; their receipts say how.`),
  );
  const submit = () => form.validateFields().then((v) => wipe.mutate(v, { onSuccess: close }));
  return (
    <Modal open title={one ? `Wipe the disk of ${word}` : `Wipe the disks of ${word}`} okText={one ? "Wipe it" : "Wipe them"} okButtonProps={{ danger: true }} onCancel={close} confirmLoading={wipe.isPending} onOk={() => void submit()}>
      <Alert
        type="error"
        showIcon
        title={one ? `All that is on it is lost: ${lost(chosen[0])}` : "All that is on them is lost:"}
        description={
          !one && (
            <ul style={{ margin: 0, paddingInlineStart: 18, maxHeight: 200, overflow: "auto" }}>
              {chosen.map((w) => (
                <li key={w.id}>{`${refs([w])[0]}: ${lost(w)}`}</li>
              ))}
            </ul>
          )
        }
        style={{ marginBottom: 16 }}
      />
      <Form name="wipe" form={form} layout="vertical" initialValues={{ wipe_method: "clear", read_back: "sample" }}>
        <Form.Item name="wipe_method" label="How far, by NIST SP 800-88">
          <Radio.Group options={[{ value: "clear", label: "clear: overwrite all that can be addressed" }, { value: "purge", label: "purge: what the disk offers" }]} />
        </Form.Item>
        <Form.Item name="read_back" label="Read back">
          <Radio.Group options={[{ value: "sample", label: "a sample" }, { value: "whole", label: "all of it" }]} />
        </Form.Item>
        <Form.Item name="retire" valuePropName="checked">
          <Checkbox>{one ? "Put it out of service then" : "Put them out of service then"}</Checkbox>
        </Form.Item>
        <Form.Item name="word" label={one ? `Type its name, ${word}` : `Type ${word}`} rules={[{ validator: (_, text: string) => (text === word ? Promise.resolve() : Promise.reject(new Error(`That is not ${word}.`))) }]}>
          <Input autoComplete="off" />
        </Form.Item>
      </Form>
    </Modal>
  );
}
