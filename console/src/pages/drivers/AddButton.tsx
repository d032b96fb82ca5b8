import { useQueryClient } from "@tanstack/react-query";
import { App, Button, List, Modal, Upload } from "antd";
import { useState } from "react";
import type { DriversAdded } from "../../api/client";

/** Sends an archive to the library and shows what was in it. */
export function AddButton() {
  const [added, setAdded] = useState<DriversAdded>();
  const [busy, setBusy] = useState(false);
  const { message } = App.useApp();
  const queries = useQueryClient();
  const send = async (file: File) => {
    setBusy(true);
    try {
      // As it is: it may be gigabytes.
      const reply = await fetch(`/api/v1/drivers?archive=${encodeURIComponent(file.name)}`, { method: "POST", body: file, headers: { "Content-Type": "application/octet-stream" } });
      const body = (await reply.json()) as DriversAdded & { detail?: string };
      if (reply.ok) setAdded(body);
      else void message.error(body.detail ?? `the service answered ${reply.status}`, 8);
    } catch (error) {
      void message.error(String(error), 8);
    }
    setBusy(false);
    void queries.invalidateQueries({ queryKey: ["drivers"] });
    void queries.invalidateQueries({ queryKey: ["coverage"] });
  };
  const lines = added && [
    ...added.taken.map((p) => ({ what: "added", text: `${p.label} (${p.class}, ${p.drives} ${p.drives === 1 ? "device" : "devices"})`, more: p.remarks.join("; ") })),
    ...added.there.map((p) => ({ what: "was there", text: p.label, more: "" })),
    ...added.skipped.map((s) => ({ what: "left out", text: s.path, more: s.reason })),
  ];
  return (
    <>
      <Upload
        showUploadList={false}
        beforeUpload={(file) => {
          void send(file);
          return false;
        }}
      >
        <Button type="primary" loading={busy}>
          Add drivers…
        </Button>
      </Upload>
      <Modal title="What was in it" open={!!added} onCancel={() => setAdded(undefined)} footer={null} width={760}>
        <List
          size="small"
          dataSource={lines}
          locale={{ emptyText: "No driver package" }}
          renderItem={(l) => (
            <List.Item>
              <List.Item.Meta title={`${l.what}: ${l.text}`} description={l.more} />
            </List.Item>
          )}
        />
      </Modal>
    </>
  );
}
