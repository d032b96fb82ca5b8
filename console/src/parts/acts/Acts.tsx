import { Button, Dropdown, type MenuProps } from "antd";
import { lazy, Suspense, useState } from "react";
import { useNavigate } from "react-router";
import { ask, client, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { refs } from "./chosen";

type Dialog = (props: { chosen: Workstation[]; close: (to?: string) => void }) => React.ReactNode;

// Each dialog is a script of its own, fetched when it is opened.
const dialogs: Record<string, React.LazyExoticComponent<Dialog>> = {
  deliver: lazy(async () => ({ default: (await import("../DeliverDialog")).DeliverDialog })),
  capture: lazy(async () => ({ default: (await import("./CaptureDialog")).CaptureDialog })),
  rename: lazy(async () => ({ default: (await import("./RenameDialog")).RenameDialog })),
  name: lazy(async () => ({ default: (await import("./NameDialog")).NameDialog })),
  groups: lazy(async () => ({ default: (await import("./GroupsDialog")).GroupsDialog })),
  answer: lazy(async () => ({ default: (await import("./AnswerDialog")).AnswerDialog })),
  check: lazy(async () => ({ default: (await import("./CheckDialog")).CheckDialog })),
  tell: lazy(async () => ({ default: (await import("./TellDialog")).TellDialog })),
  retire: lazy(async () => ({ default: (await import("./RetireDialog")).RetireDialog })),
  wipe: lazy(async () => ({ default: (await import("./WipeDialog")).WipeDialog })),
};

interface Props {
  chosen: Workstation[];
  size?: "small" | "middle";
  /** Called with the new name of the one that was renamed. */
  renamed?: (name: string) => void;
}

/** Everything that can be done to workstations, one or many. */
export function Acts({ chosen, size = "small", renamed }: Props) {
  const [open, setOpen] = useState<string>();
  const go = useNavigate();
  const wake = useChange(
    () => ask(client.POST("/wake", { body: { to: refs(chosen) } })),
    [],
    (w) => `${w.workstations.length === 1 ? `${w.workstations[0]} was` : `${w.workstations.length} were`} called through ${w.interfaces.join(", ")}. Whether ${w.workstations.length === 1 ? "it starts" : "they start"} shows when ${w.workstations.length === 1 ? "it asks" : "they ask"} for an address.`,
  );
  const one = chosen.length === 1 ? chosen[0] : undefined;
  const dialog = (key: string, label: string, more?: object) => ({ key, label, onClick: () => setOpen(key), ...more });
  const helped = chosen.some((w) => w.helper?.running);
  const items: MenuProps["items"] = [
    dialog("deliver", "Deliver an image…"),
    { key: "order", label: "Prepare an order…", onClick: () => void go("/orders", { state: { to: refs(chosen) } }) },
    ...(one ? [dialog("capture", "Capture…")] : []),
    { type: "divider" },
    one ? dialog("rename", "Rename…") : dialog("name", "Name by a pattern…"),
    dialog("groups", "Groups…"),
    dialog("answer", "Set an answer…"),
    { type: "divider" },
    dialog("check", "Check…"),
    { key: "wake", label: "Switch on", onClick: () => wake.mutate(undefined) },
    dialog("tell", "Restart or switch off…", helped ? {} : { disabled: true, title: one ? "Its system is off, or no helper stays on it" : "Their systems are off, or no helper stays on them" }),
    { type: "divider" },
    dialog("retire", "Retire…"),
    dialog("wipe", one ? "Wipe its disk…" : "Wipe their disks…", { danger: true }),
  ];
  const Open = open ? dialogs[open] : undefined;
  return (
    <>
      <Dropdown trigger={["click"]} menu={{ items }}>
        <Button size={size} type={one ? "default" : "primary"}>
          {one ? "More" : "Do with them…"}
        </Button>
      </Dropdown>
      {Open && (
        <Suspense>
          <Open
            chosen={chosen}
            close={(to) => {
              setOpen(undefined);
              if (to) renamed?.(to);
            }}
          />
        </Suspense>
      )}
    </>
  );
}
