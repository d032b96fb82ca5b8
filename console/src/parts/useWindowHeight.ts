import { useSyncExternalStore } from "react";

function listen(tell: () => void) {
  window.addEventListener("resize", tell);
  return () => window.removeEventListener("resize", tell);
}

/** How high the window is, in pixels. */
export const useWindowHeight = () => useSyncExternalStore(listen, () => window.innerHeight);
