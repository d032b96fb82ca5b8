import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";
import { Problem } from "./client";
import { type Seen, useSeen } from "./seen";

/** Says that somebody does not want to go on. */
class Declined extends Error {}

/**
 * Something that changes the service's state; afterwards the named lists are fetched again, and a problem is shown. A change that takes
 * what was seen, and sends it along, is refused if somebody else was faster: their change is shown, and may be replaced all the same.
 */
export function useChange<In, Out>(change: (input: In, seen: Seen) => Promise<Out>, lists: string[], done?: (out: Out) => string) {
  const queries = useQueryClient();
  const { message, modal } = App.useApp();
  const seen = useSeen(lists);
  const carefully = async (input: In) => {
    try {
      return await change(input, seen);
    } catch (e) {
      if (!(e instanceof Problem) || e.status !== 412) throw e;
      const goOn = await modal.confirm({ title: "Somebody else was faster", content: e.message, okText: "Change it all the same", cancelText: "Look again", width: 560 });
      if (goOn) return change(input, {});
      for (const list of lists) void queries.invalidateQueries({ queryKey: [list] });
      throw new Declined();
    }
  };
  return useMutation({
    mutationFn: carefully,
    onSuccess: (out) => {
      for (const list of lists) void queries.invalidateQueries({ queryKey: [list] });
      if (done) void message.success(done(out));
    },
    onError: (error) => {
      if (!(error instanceof Declined)) void message.error(error.message, 8);
    },
  });
}
