import type { Version } from "../../api/client";

/** What a version is called: NAME@VERSION. */
export const ref = (v: Version) => `${v.image}@${v.version}`;
