import { useQuery } from "@tanstack/react-query";
import { Button, Flex, Modal, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Errand } from "../api/client";
import { size, tenth } from "../format";
import { Shown } from "./Shown";

/** How a command has ended that a workstation has run, with a way to all that it has said. */
export function CommandOutput({ errand: e, label }: { errand: Errand; label: string }) {
  const [open, setOpen] = useState(false);
  const run = e.command_run;
  if (!run) return null;
  const ended = run.command_ended;
  const words = !ended ? e.error : ended.was_late ? "ended when its time was over" : `ended with ${ended.exit_status}`;
  return (
    <Flex gap={8} align="center" wrap>
      <b style={{ whiteSpace: "nowrap" }}>{label}</b>
      {words && <span>{words}</span>}
      {run.last_line && <Typography.Text code>{run.last_line}</Typography.Text>}
      {ended && (
        <Button size="small" onClick={() => setOpen(true)}>
          Output…
        </Button>
      )}
      {open && (
        <Modal open width={900} title={`${run.command} on ${e.workstation}: ${words}`} footer={null} onCancel={() => setOpen(false)}>
          <Output errand={e.id} />
        </Modal>
      )}
    </Flex>
  );
}

function Output({ errand }: { errand: number }) {
  const query = useQuery({ queryKey: ["output", errand], queryFn: () => ask(client.GET("/errands/{errand}", { params: { path: { errand } } })) });
  return (
    <Shown query={query}>
      {({ command_run: run }) => (
        <>
          <Typography.Paragraph type="secondary">{`It took ${tenth(run?.command_ended?.seconds ?? 0)} s in the ${run?.place === "system" ? "system on the disk" : "boot environment"}.`}</Typography.Paragraph>
          {!!run?.command_ended?.output_dropped && <Typography.Paragraph type="secondary">{`${size(run.command_ended.output_dropped)} before this were dropped.`}</Typography.Paragraph>}
          <pre style={{ maxHeight: 480, overflow: "auto", margin: 0 }}>{run?.command_ended?.output || "It has said nothing."}</pre>
        </>
      )}
    </Shown>
  );
}
