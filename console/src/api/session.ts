import { queryOptions } from "@tanstack/react-query";
import { ask, client } from "./client";

/** Who is signed in, and what they may do. */
export const session = queryOptions({
  queryKey: ["session"],
  queryFn: () => ask(client.GET("/session")),
  retry: false,
  staleTime: Infinity,
});
