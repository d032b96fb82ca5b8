import { ask, client } from "../api/client";

/** The names of workstations, for a field that searches them. */
export async function findWorkstations(search?: string) {
  const all = await ask(client.GET("/workstations", { params: { query: { state: ["expected", "admitted"], sort: "name", search, limit: 50 } } }));
  return all.items.map((w) => ({ value: w.name, label: w.name }));
}
