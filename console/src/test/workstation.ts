import type { Workstation } from "../api/client";

/** A workstation of the roster, as far as a test does not say otherwise. */
export const workstation = (id: number, more: Partial<Workstation> = {}): Workstation => ({
  id,
  name: `herb-${String(id).padStart(2, "0")}`,
  state: "admitted",
  hardware_addresses: [`00:00:5e:00:53:${id.toString(16).padStart(2, "0")}`],
  maker: "Alder Works",
  model: "A310",
  serial: `AL-${2600 + id}`,
  uuid: "",
  proposed_addresses: [],
  groups: [],
  memory: 8 << 20,
  disk_sizes: [],
  agent_version: "",
  site: "",
  online: false,
  activity: "",
  image: "",
  note: "",
  fields: {},
  unfinished: false,
  wanted: [],
  behind: false,
  ...more,
});
