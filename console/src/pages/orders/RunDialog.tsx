import { useQuery } from "@tanstack/react-query";
import { Alert, Modal } from "antd";
import { ask, client, type KeptOrder, type NewDelivery } from "../../api/client";
import { useChange } from "../../api/useChange";
import { DeliveryPlan } from "../../parts/DeliveryPlan";
import { Shown } from "../../parts/Shown";

/** Shows what running an order would do, and runs it. */
export function RunDialog({ order: k, close, done }: { order: KeptOrder; close: () => void; done: () => void }) {
  const run = useChange(
    () => ask(client.POST("/orders/{order}/run", { params: { path: { order: k.order } } })),
    ["runs", "orders", "deliveries", "errands"],
    (r) => `${r.order} runs: no. ${r.id}`,
  );
  const start = () =>
    run.mutate(undefined, {
      onSuccess: () => {
        close();
        done();
      },
    });
  return (
    <Modal open width={k.deliver ? 900 : undefined} title={`Run ${k.order}`} okText="Run it" okButtonProps={{ danger: !!k.deliver || !!k.wipe_disks }} confirmLoading={run.isPending} onCancel={close} onOk={start}>
      {k.commands?.map((c) => (
        <p key={c.command}>{`The command ${c.command} is run in the ${c.place === "boot-environment" ? "boot environment" : "system on the disk"}${c.before ? `, before ${c.before}` : ""}.`}</p>
      ))}
      {k.capture && <p>{`The disk of ${k.capture.workstation} becomes the next version of ${k.capture.image}.`}</p>}
      {k.check && <p>{`${[...(k.check.to ?? []), k.check.where && `where ${k.check.where}`].filter(Boolean).join(", ")} check themselves; who does not pass takes no part in what comes.`}</p>}
      {k.save_days && <p>{`What is on the disks is saved first, for ${k.save_days} days.`}</p>}
      {k.wipe_disks && <Alert type="error" showIcon title={`The disks of ${k.wipe_disks.workstations.join(", ")} are wiped: all that is on them is lost.`} />}
      {k.deliver && (k.capture ? <p>{`Then ${k.deliver.image} overwrites the disks of ${k.deliver.to?.join(", ") ?? ""} ${k.deliver.where ? `where ${k.deliver.where}` : ""}.`}</p> : <Planned order={k} />)}
      {k.install_drivers && <p>{`Drivers are installed on ${k.install_drivers.to?.join(", ") ?? k.install_drivers.where}.`}</p>}
      {k.bring_payloads && <p>{`${k.bring_payloads.payloads.join(", ")} come onto ${k.bring_payloads.to?.join(", ") ?? k.bring_payloads.where}.`}</p>}
    </Modal>
  );
}

/** What the delivery of an order would do now. */
function Planned({ order: k }: { order: KeptOrder }) {
  const { wait_minutes: _, ...delivery } = k.deliver ?? {};
  const query = useQuery({ queryKey: ["plan", k.order], queryFn: () => ask(client.POST("/deliveries/plan", { body: delivery as NewDelivery })), gcTime: 0 });
  return (
    <Shown query={query}>
      {(plan) => (
        <>
          {plan.refused && <Alert type="warning" showIcon title={`Now it would be refused: ${plan.refused}`} />}
          <DeliveryPlan plan={plan} />
        </>
      )}
    </Shown>
  );
}
