import { Modal } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { inWords, refs } from "./chosen";
import { useEach } from "./useEach";

/** Puts workstations out of service. */
export function RetireDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const each = useEach<Workstation>(
    (w) => refs([w])[0],
    (w) => ask(client.POST("/workstations/{workstation}/retire", { params: { path: { workstation: refs([w])[0] } } })),
    ["workstations", "workstation", "groups"],
  );
  const done = (n: number) => (chosen.length === 1 ? `${inWords(chosen)} is retired; its receipts stay.` : `${n} of ${chosen.length} workstations are retired; their receipts stay.`);
  return (
    <Modal open title={`Put ${inWords(chosen)} out of service?`} okText="Retire" onCancel={close} confirmLoading={each.running} onOk={() => void each.run(chosen, done, close)}>
      <p>{chosen.length === 1 ? "Its receipts stay." : "Their receipts stay."}</p>
      {each.shown}
    </Modal>
  );
}
