import { theme as looks, type ThemeConfig } from "antd";
import { useSyncExternalStore } from "react";

// The garden's colours: leaf for what one can do, ochre for what moves.
export const leaf = "#3f7d58";
export const ochre = "#c98b2b";
export const rust = "#a8452c";
export const slate = "#5b6b73";

/** Leaf where the ground is dark: text in it has to be read. */
const leafByNight = "#7fc29b";

const dark = window.matchMedia("(prefers-color-scheme: dark)");

/** Whether the reader's system is dark now. */
function useDark(): boolean {
  return useSyncExternalStore(
    (tell) => {
      dark.addEventListener("change", tell);
      return () => dark.removeEventListener("change", tell);
    },
    () => dark.matches,
  );
}

/** How everything looks, light or dark as the reader's system is. */
export function useTheme(): ThemeConfig {
  const night = useDark();
  const day = { colorBgLayout: "#f4f3ee", colorLink: leaf };
  return {
    algorithm: night ? looks.darkAlgorithm : looks.defaultAlgorithm,
    token: {
      colorPrimary: leaf,
      colorSuccess: leaf,
      colorWarning: ochre,
      colorError: rust,
      colorInfo: slate,
      ...(night ? { colorLink: leafByNight } : day),
      borderRadius: 4,
      fontFamily: "system-ui, 'Segoe UI', Roboto, 'DejaVu Sans', sans-serif",
    },
    components: {
      Layout: { headerBg: "#20382b", headerHeight: 56 },
      Menu: { itemPaddingInline: 6 }, // all rooms fit into 1280 pixels
      Table: { cellPaddingBlockSM: 7, ...(night ? {} : { headerBg: "#eef0ea" }) },
    },
  };
}
