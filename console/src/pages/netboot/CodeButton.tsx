import { Button, Modal, Typography } from "antd";
import { useState } from "react";
import { ask, client } from "../../api/client";
import { useChange } from "../../api/useChange";
import { when } from "../../format";

/** Makes a code that people sign in with at workstations. */
export function CodeButton() {
  const [code, setCode] = useState<{ code: string; until: string }>();
  const make = useChange(async () => setCode(await ask(client.POST("/codes", { body: { hours: 8 } }))), []);
  return (
    <>
      <Button onClick={() => make.mutate(undefined)} loading={make.isPending}>
        Code for workstations
      </Button>
      <Modal open={code !== undefined} footer={null} onCancel={() => setCode(undefined)} title="Type this at a workstation to sign in">
        <Typography.Title copyable style={{ fontFamily: "monospace", textAlign: "center" }}>
          {code?.code}
        </Typography.Title>
        {code && `Good until ${when(code.until)}.`}
      </Modal>
    </>
  );
}
