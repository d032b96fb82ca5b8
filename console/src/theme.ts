import { theme as looks, type ThemeConfig } from "antd";
import { useSyncExternalStore } from "react";

// The garden's colours: leaf for what one can do, ochre for what moves.
export const leaf = "#387050";
export const ochre = "#c98b2b";
export const rust = "#a8452c";
export const slate = "#5b6b73";

// Where the ground is dark: text in them has to be read.
const leafByNight = "#7fc29b";
const rustByNight = "#f0937a";

// The text of marks, dark enough that it stands out of their pale ground (WCAG 2.2, 1.4.3).
// Each has two names there.
const marks = {
  green7: "#237804",
  "green-7": "#237804",
  gold7: "#8a5300",
  "gold-7": "#8a5300",
  orange7: "#9c4600",
  "orange-7": "#9c4600",
  volcano7: "#a01e02",
  "volcano-7": "#a01e02",
  blue7: "#003eb3",
  "blue-7": "#003eb3",
  cyan7: "#006d75",
  "cyan-7": "#006d75",
  red7: "#a8071a",
  "red-7": "#a8071a",
};

/** Text of less weight. */
const paleByDay = { colorTextSecondary: "#565b57", colorTextTertiary: "#5f645f", colorTextDescription: "#565b57", colorTextPlaceholder: "#686d68" };
const paleByNight = { colorTextSecondary: "#b3b8b3", colorTextTertiary: "#a8ada8", colorTextDescription: "#b3b8b3", colorTextPlaceholder: "#8f948f" };

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

// Lines of charts stand out of their ground three to one (WCAG 2.2, 1.4.11).
const linesByDay = { first: leaf, second: "#996410", bad: rust, quiet: slate };
const linesByNight = { first: leafByNight, second: "#e0b060", bad: rustByNight, quiet: "#9fb0b8" };

/** The colours of a chart's lines. */
export const useLines = () => (useDark() ? linesByNight : linesByDay);

/** How everything looks, light or dark as the reader's system is. */
export function useTheme(): ThemeConfig {
  const night = useDark();
  const day = { colorBgLayout: "#f4f3ee", colorLink: leaf, ...marks, ...paleByDay };
  const pale = (night ? paleByNight : paleByDay).colorTextSecondary; // of what a table says that is empty
  return {
    algorithm: night ? looks.darkAlgorithm : looks.defaultAlgorithm,
    token: {
      colorPrimary: leaf,
      colorSuccess: night ? leafByNight : leaf,
      colorWarning: ochre,
      colorError: night ? rustByNight : rust,
      colorInfo: slate,
      ...(night ? { colorLink: leafByNight, ...paleByNight } : day),
      borderRadius: 4,
      fontFamily: "system-ui, 'Segoe UI', Roboto, 'DejaVu Sans', sans-serif",
    },
    components: {
      Layout: { headerBg: "#20382b", headerHeight: 56 },
      Table: { cellPaddingBlockSM: 7, colorTextDisabled: pale, ...(night ? { rowSelectedBg: "#1d3327", rowSelectedHoverBg: "#244030" } : { headerBg: "#eef0ea", rowSelectedBg: "#e5efe6", rowSelectedHoverBg: "#dae8dc" }) },
      ...(night ? { Tabs: { itemSelectedColor: leafByNight } } : {}),
    },
  };
}
