import { useMutation, useQueryClient } from "@tanstack/react-query";
import { App } from "antd";

/** Something that changes the service's state; afterwards the named lists are fetched again, and a problem is shown. */
export function useChange<In, Out>(change: (input: In) => Promise<Out>, lists: string[], done?: (out: Out) => string) {
  const queries = useQueryClient();
  const { message } = App.useApp();
  return useMutation({
    mutationFn: change,
    onSuccess: (out) => {
      for (const list of lists) void queries.invalidateQueries({ queryKey: [list] });
      if (done) void message.success(done(out));
    },
    onError: (error) => void message.error(error.message, 8),
  });
}
