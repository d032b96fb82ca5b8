import { Typography } from "antd";

/** A key, as it stands on a keyboard; nothing for none. */
export function Key({ text }: { text: string }) {
  return text ? <Typography.Text keyboard>{text}</Typography.Text> : null;
}
