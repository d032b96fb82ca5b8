import { useQuery } from "@tanstack/react-query";
import { ask, client } from "../../api/client";

/** The roles that can be granted, and what for. */
export function useScopes() {
  const roles = useQuery({ queryKey: ["roles"], queryFn: () => ask(client.GET("/roles", {})) });
  const groups = useQuery({ queryKey: ["groups", "all"], queryFn: () => ask(client.GET("/groups", { params: { query: { limit: 1000 } } })) });
  const images = useQuery({ queryKey: ["images", "all"], queryFn: () => ask(client.GET("/images", { params: { query: { limit: 1000 } } })) });
  return {
    roles: (roles.data?.items ?? []).map((r) => ({ label: r.role, value: r.role })),
    scopes: [
      { label: "everything", value: "everything" },
      ...(groups.data?.items ?? []).map((g) => ({ label: `the group ${g.name}`, value: `group:${g.name}` })),
      ...(images.data?.items ?? []).map((i) => ({ label: `the image ${i.image}`, value: `image:${i.image}` })),
    ],
  };
}
