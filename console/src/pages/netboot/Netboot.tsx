import { useQuery } from "@tanstack/react-query";
import { Alert, Card, Flex } from "antd";
import { ask, client, type NetbootStatus } from "../../api/client";
import { PageTitle } from "../../parts/PageTitle";
import { Shown } from "../../parts/Shown";
import { AddEntry, BootEntries } from "./BootEntries";
import { Builds } from "./Builds";
import { CodeButton } from "./CodeButton";
import { Links } from "./Links";
import { Machines } from "./Machines";

/** What is answered on the network, how far each machine is, and what they boot. */
export function Netboot() {
  // Who is stuck changes with time alone; events tell the rest.
  const status = useQuery({ queryKey: ["netboot"], queryFn: () => ask(client.GET("/netboot", {})), refetchInterval: 15_000 });
  return (
    <>
      <PageTitle title="Network boot">
        <CodeButton />
      </PageTitle>
      <Shown query={status}>{(s) => <Status status={s} />}</Shown>
    </>
  );
}

function Status({ status }: { status: NetbootStatus }) {
  const { links, machines, offered_build, unknown } = status;
  return (
      <Flex vertical gap={16}>
        {offered_build === 0 && (
          <Alert type="warning" showIcon title="No build of the boot environment is offered: workstations start from their own disk, whatever waits for them." />
        )}
        <Links links={links} unknown={unknown} />
        <Machines machines={machines} />
        <Card title="Boot environment" styles={{ body: { padding: 0 } }}>
          <Builds />
        </Card>
        <Card title="Boot entries" extra={<AddEntry />} styles={{ body: { padding: 0 } }}>
          <BootEntries />
        </Card>
      </Flex>
  );
}
