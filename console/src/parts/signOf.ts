import type { Workstation } from "../api/client";

/** What one sees of a workstation from afar: a word, and a colour that is never alone. */
export function signOf(w: Workstation): { word: string; colour: "colorError" | "colorWarning" | "colorSuccess" | "colorTextDisabled" } {
  if (w.unfinished) return { word: "unfinished copy", colour: "colorError" };
  if (w.behind) return { word: `behind ${w.wanted.join(" or ")}`, colour: "colorWarning" };
  if (w.online) return { word: w.activity || "waiting", colour: "colorSuccess" };
  if (w.helper?.running) return { word: "its system is on", colour: "colorSuccess" };
  return { word: w.state === "expected" ? "expected" : w.last_seen ? "away" : "never seen", colour: "colorTextDisabled" };
}
