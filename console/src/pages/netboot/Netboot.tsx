import { useQuery } from "@tanstack/react-query";
import { Alert, Card, Flex, Spin } from "antd";
import { ask, client } from "../../api/client";
import { PageTitle } from "../../parts/PageTitle";
import { Builds } from "./Builds";
import { CodeButton } from "./CodeButton";
import { Links } from "./Links";
import { Machines } from "./Machines";

/** What is answered on the network, how far each machine is, and what they boot. */
export function Netboot() {
  // Who is stuck changes with time alone; events tell the rest.
  const status = useQuery({ queryKey: ["netboot"], queryFn: () => ask(client.GET("/netboot", {})), refetchInterval: 15_000 });
  if (!status.data) return <Spin />;
  const { interfaces, machines, offered, unknown } = status.data;
  return (
    <>
      <PageTitle title="Network boot">
        <CodeButton />
      </PageTitle>
      <Flex vertical gap={16}>
        {offered === 0 && (
          <Alert type="warning" showIcon title="No build of the boot environment is offered: workstations start from their own disk, whatever waits for them." />
        )}
        <Links links={interfaces} unknown={unknown} />
        <Machines machines={machines} />
        <Card title="Boot environment" styles={{ body: { padding: 0 } }}>
          <Builds />
        </Card>
      </Flex>
    </>
  );
}
