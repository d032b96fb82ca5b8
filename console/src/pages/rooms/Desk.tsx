import { theme, Tooltip } from "antd";
import { type DragEvent, forwardRef } from "react";
import type { Workstation } from "../../api/client";
import { ago } from "../../format";
import { signOf } from "../../parts/signOf";
import { modelOf } from "../../parts/model";

interface Props {
  workstation: Workstation;
  chosen: boolean;
  /** Whether it is being put somewhere else. */
  held: boolean;
  press: () => void;
  drag?: (e: DragEvent) => void;
}

/** A desk with its workstation: name, image and how old that is, and how it is. */
export const Desk = forwardRef<HTMLButtonElement, Props>(function Desk({ workstation: w, chosen, held, press, drag }, ref) {
  const { token } = theme.useToken();
  const sign = signOf(w);
  return (
    <Tooltip title={[modelOf(w), w.note].filter(Boolean).join("; ")} mouseEnterDelay={0.6}>
      <button
        ref={ref}
        type="button"
        className="desk"
        aria-pressed={chosen || held}
        draggable={!!drag}
        onDragStart={drag}
        onClick={press}
        style={{
          width: "100%",
          height: "100%",
          minHeight: 78,
          textAlign: "start",
          font: "inherit",
          color: token.colorText,
          cursor: drag ? "grab" : "pointer",
          padding: "6px 8px",
          borderRadius: token.borderRadius,
          border: "solid",
          borderWidth: "1px 1px 1px 5px",
          borderColor: `${token.colorBorder} ${token.colorBorder} ${token.colorBorder} ${token[sign.colour]}`,
          outline: chosen || held ? `2px ${held ? "dashed" : "solid"} ${token.colorPrimary}` : undefined,
          outlineOffset: 2,
          background: token.colorBgContainer,
        }}
      >
        <b>{w.name}</b>
        <div>{w.image || "no image"}</div>
        <div style={{ fontSize: 12, color: token.colorTextSecondary }}>{[sign.word, w.imaged && ago(w.imaged)].filter(Boolean).join(", ")}</div>
      </button>
    </Tooltip>
  );
});
