import { ask, client } from "../api/client";

/** Images by the beginning of their names, for a SearchSelect. */
export async function findImages(search?: string) {
  const all = await ask(client.GET("/images", { params: { query: { search, limit: 50 } } }));
  return all.items.map((v) => ({ value: v.image, label: v.image }));
}
