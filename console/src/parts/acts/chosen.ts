import type { Workstation } from "../../api/client";

/** How the service is told which workstations are meant: by name, or by hardware address where they have none. */
export const refs = (chosen: Workstation[]) => chosen.map((w) => w.name || w.hardware_addresses[0]);

/** The chosen ones in words: a name, or how many. */
export const inWords = (chosen: Workstation[]) => (chosen.length === 1 ? refs(chosen)[0] : `${chosen.length} workstations`);

/** What is said of the chosen ones: "they are" or "herb-01 is". */
export const they = (chosen: Workstation[], one: string, many: string) => (chosen.length === 1 ? `${refs(chosen)[0]} ${one}` : `${chosen.length} workstations ${many}`);
