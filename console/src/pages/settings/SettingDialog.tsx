import { Alert, Input, Modal, Segmented, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Setting } from "../../api/client";
import { useChange } from "../../api/useChange";

const lists = ["netboot", "pool"];
const choices: Record<string, string[]> = { unknown: ["ignore", "hold", "welcome"], "accept-cards": ["true", "false"], "netboot-force": ["true", "false"] };

/** What a change of a setting means for what is under way. */
const effects: Record<string, string> = {
  netboot: "Machines that are loading from an interface whose mode changes ask again. If an interface cannot be served, all stays as it is.",
  pool: "Interfaces in mode whole begin anew, which takes some seconds each.",
  rate: "It is for deliveries that are ordered from now on. The rate of one that runs is changed on its own page.",
  ceiling: "It counts at once, for what is being streamed, too.",
};

/** Asks what a setting is to be. It takes effect at once. */
export function SettingDialog({ before, close }: { before: Setting; close: () => void }) {
  const [values, setValues] = useState(before.is);
  const set = useChange((is: string[]) => ask(client.PUT("/settings/{setting}", { params: { path: { setting: before.setting } }, body: { is } })), ["settings", "netboot"], (s) => `${s.setting} is ${s.is.join("; ") || "empty"} now.`);
  const note = effects[before.setting];
  return (
    <Modal open title={before.setting} okText="Set" onCancel={close} confirmLoading={set.isPending} onOk={() => set.mutate(lists.includes(before.setting) ? values.map((v) => v.trim()).filter(Boolean) : values, { onSuccess: close })}>
      <Typography.Paragraph type="secondary">{before.what}</Typography.Paragraph>
      <Field setting={before.setting} values={values} change={setValues} />
      {note && <Alert type="info" title={note} style={{ marginTop: 12 }} />}
      {set.isError && <Alert type="error" title={set.error.message} style={{ marginTop: 12 }} />}
    </Modal>
  );
}

function Field({ setting, values, change }: { setting: string; values: string[]; change: (values: string[]) => void }) {
  const fixed = choices[setting];
  if (fixed) return <Segmented aria-label={setting} options={fixed} value={values[0]} onChange={(v) => change([v])} />;
  if (lists.includes(setting))
    return <Input.TextArea rows={3} aria-label={`${setting}, one a line`} value={values.join("\n")} onChange={(e) => change(e.target.value.split("\n"))} placeholder={setting === "netboot" ? "eth1=beside" : "192.0.2.100-192.0.2.199/24 router 192.0.2.1"} />;
  return <Input aria-label={setting} value={values[0] ?? ""} onChange={(e) => change([e.target.value])} />;
}
