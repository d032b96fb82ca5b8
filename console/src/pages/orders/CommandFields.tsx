import { Checkbox, Flex, Form, Input, Select } from "antd";

/** A command that an order runs at workstations. */
export interface FilledCommand {
  name?: string;
  script?: string;
  place: "system" | "boot-environment";
  first?: boolean;
  may_fail?: boolean;
}

const places = [
  { value: "system", label: "in the system on the disk" },
  { value: "boot-environment", label: "in the boot environment" },
];

/** Asks for a command of one's own; without a script there is none. */
export function CommandFields({ main }: { main: string }) {
  const script = Form.useWatch(["command", "script"]) as string | undefined;
  return (
    <>
      <Form.Item name={["command", "script"]} label="A command of your own" extra="Lines for a shell; leave it empty for none. What it says stays in the history.">
        <Input.TextArea rows={2} placeholder="systemctl enable scanner.service" style={{ fontFamily: "monospace" }} />
      </Form.Item>
      {script && (
        <>
          <Flex gap={12}>
            <Form.Item name={["command", "name"]} label="It is called" style={{ flex: 1 }} rules={[{ required: true, message: "How is the command called?" }]}>
              <Input placeholder="scanner" />
            </Form.Item>
            <Form.Item name={["command", "place"]} label="It runs" style={{ flex: 1 }}>
              <Select options={places} />
            </Form.Item>
          </Flex>
          <Form.Item name={["command", "first"]} valuePropName="checked" style={{ marginBottom: 8 }}>
            <Checkbox>{`Before the ${main}, and not after it`}</Checkbox>
          </Form.Item>
          <Form.Item name={["command", "may_fail"]} valuePropName="checked">
            <Checkbox>Whoever it fails for stays in the run</Checkbox>
          </Form.Item>
        </>
      )}
    </>
  );
}

/** The command as an order has it; main is the part that it stands before or after. */
export const commandOf = (f: FilledCommand | undefined, main: "capture" | "deliver") =>
  f?.script ? [{ command: f.name, script: f.script, place: f.place, before: f.first ? main : undefined, may_fail: f.may_fail || undefined }] : undefined;
