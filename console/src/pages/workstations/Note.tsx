import { Button, Flex, Input, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";

/** What is said of a workstation, and can be said anew. */
export function Note({ workstation: w }: { workstation: Workstation }) {
  const [writing, setWriting] = useState(false);
  if (writing) return <Writing workstation={w} close={() => setWriting(false)} />;
  return (
    <Flex gap={8} align="start" justify="space-between">
      {w.note ? <span style={{ whiteSpace: "pre-wrap" }}>{w.note}</span> : <Typography.Text type="secondary">Nothing is written of it yet.</Typography.Text>}
      <Button size="small" onClick={() => setWriting(true)}>
        Write…
      </Button>
    </Flex>
  );
}

function Writing({ workstation: w, close }: { workstation: Workstation; close: () => void }) {
  const [text, setText] = useState(w.note);
  const note = useChange((to: string, seen) => ask(client.PUT("/workstations/{workstation}/note", { params: { path: { workstation: w.name } }, body: { note: to }, ...seen })), ["workstation", "workstations", "logbook"]);
  return (
    <Flex vertical gap={8}>
      <Input.TextArea autoFocus aria-label="Note" rows={3} maxLength={1000} value={text} onChange={(e) => setText(e.target.value)} />
      <Flex gap={8} justify="end">
        <Button size="small" onClick={close}>
          Leave it
        </Button>
        <Button size="small" type="primary" loading={note.isPending} onClick={() => note.mutate(text, { onSuccess: close })}>
          Keep
        </Button>
      </Flex>
    </Flex>
  );
}
