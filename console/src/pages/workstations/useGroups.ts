import { useQuery } from "@tanstack/react-query";
import { ask, client } from "../../api/client";

/** The groups, as options of a select. */
export function useGroups() {
  const groups = useQuery({
    queryKey: ["groups"],
    queryFn: () => ask(client.GET("/groups", { params: { query: { limit: 1000 } } })),
  });
  return groups.data?.items.map((g) => ({ value: g.name, label: `${g.name} (${g.members})` }));
}
