import { type PointerEvent, useRef, useState } from "react";

export interface Box {
  left: number;
  top: number;
  width: number;
  height: number;
}

/** How far a pointer moves before it draws a box, in pixels. */
const still = 5;

const boxOf = (x1: number, y1: number, x2: number, y2: number): Box => ({ left: Math.min(x1, x2), top: Math.min(y1, y2), width: Math.abs(x1 - x2), height: Math.abs(y1 - y2) });

export const touches = (a: Box, b: Box) => a.left < b.left + b.width && b.left < a.left + a.width && a.top < b.top + b.height && b.top < a.top + a.height;

/** A box that is drawn with the mouse from beside the desks; boxes are in pixels of the window. */
export function useBand(done: (box: Box, more: boolean) => void) {
  // What the hand does; the box that is shown may lag behind it.
  const from = useRef<{ x: number; y: number; moved: boolean }>(undefined);
  const [box, setBox] = useState<Box>();
  const end = () => {
    from.current = undefined;
    setBox(undefined);
  };
  return {
    box,
    handlers: {
      onPointerDown: (e: PointerEvent) => {
        if (e.button !== 0 || e.pointerType === "touch" || (e.target as HTMLElement).closest("button")) return; // a finger scrolls
        from.current = { x: e.clientX, y: e.clientY, moved: false };
        e.currentTarget.setPointerCapture(e.pointerId);
      },
      onPointerMove: (e: PointerEvent) => {
        const f = from.current;
        if (!f) return;
        f.moved ||= Math.abs(e.clientX - f.x) + Math.abs(e.clientY - f.y) > still;
        if (f.moved) setBox(boxOf(f.x, f.y, e.clientX, e.clientY));
      },
      onPointerUp: (e: PointerEvent) => {
        const f = from.current;
        if (f?.moved) done(boxOf(f.x, f.y, e.clientX, e.clientY), e.shiftKey || e.ctrlKey);
        end();
      },
      onPointerCancel: end,
    },
  };
}
