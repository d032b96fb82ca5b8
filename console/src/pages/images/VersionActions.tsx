import { App, Button, Dropdown, Flex } from "antd";
import { ask, client, type Version } from "../../api/client";
import { useChange } from "../../api/useChange";
import { size } from "../../format";

/** What can be done with a version: deliver it, check its slabs, have it stand alone, take it out of use and back. */
export function VersionActions({ version, deliver }: { version: Version; deliver: (v: Version) => void }) {
  const { modal } = App.useApp();
  const path = { params: { path: { version: `${version.image}@${version.version}` } } };
  const retire = useChange(() => ask(client.POST("/versions/{version}/retire", path)), ["versions", "images"], (v) => `${v.image}@${v.version} is retired`);
  const readmit = useChange(() => ask(client.POST("/versions/{version}/readmit", path)), ["versions", "images"], (v) => `${v.image}@${v.version} is in use again`);
  const verify = useChange(() => ask(client.POST("/versions/{version}/verify", path)), []);
  const settle = useChange(
    () => ask(client.POST("/versions/{version}/settle", path)),
    ["versions", "images"],
    ({ settled_version: v, slabs }) => `${v.image}@${v.version} stands alone: ${slabs === 0 ? "no slab leaned on another one" : `${slabs} slabs were stored anew`}`,
  );
  const check = () =>
    verify.mutate(undefined, {
      onSuccess: (v) =>
        v.sound
          ? modal.success({ title: `${v.image}@${v.version} is sound`, content: `All ${v.slabs} slabs (${size(v.bytes)}) were read and have the right digest.` })
          : modal.error({ title: `${v.image}@${v.version} is damaged`, content: `${v.faulty} of ${v.slabs} slabs are missing or damaged. Capture it again, or import it from where it is whole.` }),
    });
  const items = [
    { key: "verify", label: "Check every slab", disabled: version.state === "pruned", onClick: check },
    { key: "settle", label: "Have it stand alone", disabled: version.state === "pruned" || !!version.settled, onClick: () => settle.mutate(undefined) },
    version.state === "in use"
      ? { key: "retire", label: "Retire", onClick: () => retire.mutate(undefined) }
      : { key: "readmit", label: "Readmit", disabled: version.state === "pruned", onClick: () => readmit.mutate(undefined) },
  ];
  return (
    <Flex gap={6} justify="end" onClick={(e) => e.stopPropagation()}>
      <Button size="small" disabled={version.state !== "in use"} onClick={() => deliver(version)}>
        Deliver @{version.version}…
      </Button>
      <Dropdown menu={{ items }} trigger={["click"]}>
        <Button size="small" loading={verify.isPending || settle.isPending} aria-label={`More for @${version.version}`}>
          ⋯
        </Button>
      </Dropdown>
    </Flex>
  );
}
