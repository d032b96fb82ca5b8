import type { ThemeConfig } from "antd";

// The garden's colours: leaf for what one can do, ochre for what moves.
export const leaf = "#3f7d58";
export const ochre = "#c98b2b";
export const rust = "#a8452c";
export const slate = "#5b6b73";

export const theme: ThemeConfig = {
  token: {
    colorPrimary: leaf,
    colorLink: leaf,
    colorSuccess: leaf,
    colorWarning: ochre,
    colorError: rust,
    colorInfo: slate,
    colorBgLayout: "#f4f3ee",
    borderRadius: 4,
    fontFamily: "system-ui, 'Segoe UI', Roboto, 'DejaVu Sans', sans-serif",
  },
  components: {
    Layout: { headerBg: "#20382b", headerHeight: 56 },
    Menu: { itemPaddingInline: 6 }, // all rooms fit into 1280 pixels
    Table: { cellPaddingBlockSM: 7, headerBg: "#eef0ea" },
  },
};
