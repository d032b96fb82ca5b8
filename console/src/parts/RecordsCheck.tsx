import { useMutation } from "@tanstack/react-query";
import { App, Button } from "antd";
import { ask, client } from "../api/client";

/** Lets the service go through all records and says what it found. */
export function RecordsCheck() {
  const { modal } = App.useApp();
  const check = useMutation({
    mutationFn: () => ask(client.GET("/log/check")),
    // What modal returns is settled only when it is closed; the check is done before.
    onSuccess: (c) => {
      if (c.sound) {
        void modal.success({
          title: "All records are as they were written",
          content: `${c.receipt_count} receipts, ${c.arrival_count} arrivals and ${c.line_count} lines of the logbook: none was changed, removed or added.`,
        });
      } else {
        void modal.error({ title: "The records are not as they were written", content: c.detail });
      }
    },
    onError: (e) => void modal.error({ title: e.message }),
  });
  return (
    <Button loading={check.isPending} onClick={() => check.mutate()}>
      Check all records
    </Button>
  );
}
