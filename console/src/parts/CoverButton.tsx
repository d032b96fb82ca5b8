import { Button } from "antd";
import { ask, client } from "../api/client";
import { useChange } from "../api/useChange";

/** Makes a build that drives a model's network cards and disk controllers, and offers it. */
export function CoverButton({ cover, text }: { cover: string; text: string }) {
  const make = useChange(
    () => ask(client.POST("/builds", { body: { cover: [cover], offer: true, note: `drivers for ${cover}` } })),
    ["builds", "netboot", "coverage"],
    (b) => `Build ${b.number} has the drivers and is offered: switch the machine on again`,
  );
  return (
    <Button size="small" type="primary" loading={make.isPending} onClick={() => make.mutate()}>
      {text}
    </Button>
  );
}
