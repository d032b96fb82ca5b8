import { useQuery } from "@tanstack/react-query";
import { Flex, Modal, Typography } from "antd";
import { useState } from "react";
import { ask, client, type BootEntry } from "../../api/client";
import { findWorkstations } from "../../parts/findWorkstations";
import { SearchSelect } from "../../parts/SearchSelect";
import { Shown } from "../../parts/Shown";

/** What one workstation would be given with a boot entry. */
export function PreviewDialog({ entry, close }: { entry: BootEntry; close: () => void }) {
  const [workstation, setWorkstation] = useState<string>();
  return (
    <Modal open width={860} title={`What ${entry.boot_entry} is told`} footer={null} onCancel={close}>
      <Flex vertical gap={12}>
        <SearchSelect id="previewed" name="previewed" find={findWorkstations} placeholder="At which workstation?" value={workstation} onChange={setWorkstation} style={{ width: 240 }} />
        {workstation && <Told entry={entry.boot_entry} workstation={workstation} />}
      </Flex>
    </Modal>
  );
}

function Told({ entry, workstation }: { entry: string; workstation: string }) {
  const query = useQuery({
    queryKey: ["boot-entries", "preview", entry, workstation],
    queryFn: () => ask(client.POST("/boot-entries/{boot_entry}/preview", { params: { path: { boot_entry: entry } }, body: { workstation } })),
  });
  return (
    <Shown query={query}>
      {(p) => (
        <>
          <Typography.Text>{`Version ${p.version}, started as a ${p.way}`}</Typography.Text>
          {p.words && <Lines title="Words for its kernel" text={p.words} />}
          {p.answer_text && <Lines title={p.file_name ?? "Answer file"} text={p.answer_text} />}
          {p.remarks.map((r) => (
            <Typography.Text key={r} type="secondary">
              {r}
            </Typography.Text>
          ))}
        </>
      )}
    </Shown>
  );
}

function Lines({ title, text }: { title: string; text: string }) {
  return (
    <div>
      <b>{title}</b>
      <pre style={{ margin: 0, maxHeight: 360, overflow: "auto", whiteSpace: "pre-wrap", fontSize: 12 }}>{text}</pre>
    </div>
  );
}
