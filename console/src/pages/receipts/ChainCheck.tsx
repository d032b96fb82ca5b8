import { useMutation } from "@tanstack/react-query";
import { App, Button } from "antd";
import { ask, client } from "../../api/client";

/** Lets the service go through the chain of receipts and says what it found. */
export function ChainCheck() {
  const { modal } = App.useApp();
  const check = useMutation({
    mutationFn: () => ask(client.GET("/receipt-chain")),
    // What modal returns is settled only when it is closed; the check is done before.
    onSuccess: (c) => {
      if (c.sound) {
        void modal.success({ title: `${c.receipts} receipts, and the chain is sound`, content: "None was changed or removed since it was written." });
      } else {
        void modal.error({ title: "The chain of receipts is broken", content: c.detail });
      }
    },
    onError: (e) => void modal.error({ title: e.message }),
  });
  return (
    <Button loading={check.isPending} onClick={() => check.mutate()}>
      Check the chain
    </Button>
  );
}
