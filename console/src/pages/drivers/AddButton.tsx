import { List, Modal } from "antd";
import { useState } from "react";
import type { DriversAdded } from "../../api/client";
import { UploadButton } from "../../parts/UploadButton";

/** Sends an archive to the library and shows what was in it. */
export function AddButton() {
  const [added, setAdded] = useState<DriversAdded>();
  const lines = added && [
    ...added.taken.map((p) => ({ what: "added", text: `${p.label} (${p.class}, ${p.drives} ${p.drives === 1 ? "device" : "devices"})`, more: p.remarks.join("; ") })),
    ...added.there.map((p) => ({ what: "was there", text: p.label, more: "" })),
    ...added.skipped.map((s) => ({ what: "left out", text: s.path, more: s.reason })),
  ];
  return (
    <>
      <UploadButton<DriversAdded> type="primary" to={(name) => `/api/v1/drivers?archive=${name}`} lists={["drivers", "coverage"]} done={setAdded}>
        Add drivers…
      </UploadButton>
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
