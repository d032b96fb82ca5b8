import { useQueryClient } from "@tanstack/react-query";
import { App, Button, Upload, type ButtonProps } from "antd";
import { useState, type ReactNode } from "react";

interface Props<T> {
  /** Where a file is sent, by its name. */
  to: (name: string) => string;
  /** What is fetched again afterwards. */
  lists: string[];
  done?: (reply: T) => void;
  type?: ButtonProps["type"];
  children: ReactNode;
}

/** Sends a file as it is, which may be gigabytes. */
export function UploadButton<T>({ to, lists, done, type, children }: Props<T>) {
  const [busy, setBusy] = useState(false);
  const { message } = App.useApp();
  const queries = useQueryClient();
  const send = async (file: File) => {
    setBusy(true);
    try {
      const reply = await fetch(to(encodeURIComponent(file.name)), { method: "POST", body: file, headers: { "Content-Type": "application/octet-stream" } });
      const body = (await reply.json()) as T & { detail?: string };
      if (reply.ok) done?.(body);
      else void message.error(body.detail ?? `the service answered ${reply.status}`, 8);
    } catch (error) {
      void message.error(String(error), 8);
    }
    setBusy(false);
    for (const list of lists) void queries.invalidateQueries({ queryKey: [list] });
  };
  return (
    <Upload
      showUploadList={false}
      beforeUpload={(file) => {
        void send(file);
        return false;
      }}
    >
      <Button type={type} loading={busy}>
        {children}
      </Button>
    </Upload>
  );
}
