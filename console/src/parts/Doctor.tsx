import { useQuery } from "@tanstack/react-query";
import { Button, Collapse, Flex, Modal, Spin, Typography } from "antd";
import { useState } from "react";
import { ask, client, type Diagnosis } from "../api/client";
import { Finding } from "./Finding";
import { Failure } from "./Shown";

interface Props {
  label: string;
  /** A name or hardware address; without one, the service is looked at. */
  workstation?: string;
}

/** A button, behind which is what is wrong, why, and what to do about it. */
export function Doctor({ label, workstation }: Props) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <Button size="small" onClick={() => setOpen(true)}>
        {label}
      </Button>
      {open && <Findings workstation={workstation} close={() => setOpen(false)} />}
    </>
  );
}

const look = (workstation?: string) => (workstation ? client.GET("/workstations/{workstation}/doctor", { params: { path: { workstation } } }) : client.GET("/doctor", {}));

function Findings({ workstation, close }: { workstation?: string; close: () => void }) {
  const query = useQuery({ queryKey: ["doctor", workstation], queryFn: () => ask(look(workstation)), gcTime: 0, staleTime: Infinity, retry: false });
  return (
    <Modal
      open
      title={workstation ? `What the doctor says of ${workstation}` : "What the doctor says"}
      onCancel={close}
      width={640}
      footer={[
        <Button key="again" onClick={() => void query.refetch()} loading={query.isFetching}>
          Look again
        </Button>,
        <Button key="close" type="primary" onClick={close}>
          Close
        </Button>,
      ]}
    >
      {query.isError && <Failure error={query.error} />}
      {query.isPending && (
        <Flex gap={12} align="center">
          <Spin />
          <Typography.Text>{workstation ? "Following it from the power button on…" : "Looking, and listening some seconds for other servers that give addresses…"}</Typography.Text>
        </Flex>
      )}
      {query.data && <Said all={query.data.items} />}
    </Modal>
  );
}

/** What is wrong, and what is well, which is folded away if anything is wrong. */
function Said({ all }: { all: Diagnosis[] }) {
  const well = all.filter((d) => d.state === "good");
  const wrong = all.filter((d) => d.state !== "good").sort((a, b) => Number(b.state === "bad") - Number(a.state === "bad"));
  return (
    <Flex vertical gap={12}>
      {wrong.length === 0 && <Typography.Text>Nothing is out of order.</Typography.Text>}
      <List of={wrong} />
      {well.length > 0 && <Collapse size="small" defaultActiveKey={wrong.length === 0 ? "well" : undefined} items={[{ key: "well", label: well.length === 1 ? "1 thing is well" : `${well.length} things are well`, children: <List of={well} /> }]} />}
    </Flex>
  );
}

function List({ of }: { of: Diagnosis[] }) {
  return (
    <Flex vertical gap={10}>
      {of.map((d) => (
        <Finding key={d.looked_at + d.what} title={<b>{d.looked_at}</b>} state={d.state} what={d.what} cure={d.cure} />
      ))}
    </Flex>
  );
}
