import { Button, Flex, Popconfirm, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type BootEntry } from "../../api/client";
import { useChange } from "../../api/useChange";
import { useList } from "../../api/useList";
import { size, when } from "../../format";
import { ListTable } from "../../parts/ListTable";
import { UploadButton } from "../../parts/UploadButton";
import { BootDialog } from "./BootDialog";
import { EntryDialog } from "./EntryDialog";
import { PreviewDialog } from "./PreviewDialog";

/** The version that workstations get. */
const shown = (e: BootEntry) => e.entry_versions.find((v) => v.version === e.shown_version);

/** A name for what was uploaded, from that of its file. */
const nameOf = (file: string) =>
  decodeURIComponent(file)
    .replace(/[_.].*$/, "")
    .replace(/[^A-Za-z0-9-]+/g, "-")
    .replace(/^-+|-+$/g, "")
    .slice(0, 63) || "boot-entry";

/** What workstations can boot beside builds, with the button that adds one. */
export function BootEntries() {
  const [editing, setEditing] = useState<BootEntry>();
  const [booting, setBooting] = useState<BootEntry>();
  const [previewing, setPreviewing] = useState<BootEntry>();
  const list = useList<BootEntry>(["boot-entries"], ({ offset, limit, sort }, form) => ask(client.GET("/boot-entries", { params: { query: { offset, limit, sort } }, ...form })), { limit: 10, within: "entry-" });
  const remove = useChange((name: string) => ask(client.DELETE("/boot-entries/{boot_entry}", { params: { path: { boot_entry: name } } })), ["boot-entries"]);
  return (
    <>
      <ListTable<BootEntry>
        name="boot-entries"
        list={list}
        rowKey="boot_entry"
        empty="None yet: add an installer, a memory test, a disc, or another program that workstations should be able to boot."
        expandable={{ expandedRowRender: (e) => <Versions entry={e} /> }}
        columns={[
          {
            title: "Boot entry",
            key: "boot_entry",
            sorter: true,
            render: (_, e) => (
              <>
                <b>{e.boot_entry}</b>
                {e.title && <div>{e.title}</div>}
              </>
            ),
          },
          { title: "Version", align: "right", dataIndex: "shown_version" },
          { title: "What", render: (_, e) => shown(e)?.what },
          { title: "Started as", render: (_, e) => [...new Set(shown(e)?.starts.map((s) => s.way))].join(", ") },
          { title: "For", render: (_, e) => [...(e.to ?? []), e.where].filter(Boolean).join(" ") || "all" },
          { title: "Who sees it", render: (_, e) => <Seen entry={e} /> },
          {
            title: "",
            align: "right",
            render: (_, e) => (
              <Flex gap={8} justify="end">
                <Button size="small" type="primary" ghost onClick={() => setBooting(e)}>
                  Boot…
                </Button>
                <Button size="small" onClick={() => setPreviewing(e)}>
                  Preview…
                </Button>
                <Button size="small" onClick={() => setEditing(e)}>
                  Settings…
                </Button>
                <Popconfirm title={`Remove ${e.boot_entry} with all its versions?`} okText="Remove" onConfirm={() => remove.mutate(e.boot_entry)}>
                  <Button size="small">Remove</Button>
                </Popconfirm>
              </Flex>
            ),
          },
        ]}
      />
      {editing && <EntryDialog entry={editing} close={() => setEditing(undefined)} />}
      {booting && <BootDialog entry={booting} close={() => setBooting(undefined)} />}
      {previewing && <PreviewDialog entry={previewing} close={() => setPreviewing(undefined)} />}
    </>
  );
}

/** The button that adds a boot entry, or a version of one of that name. */
export function AddEntry() {
  return (
    <UploadButton<BootEntry> to={(file) => `/api/v1/boot-entries/${nameOf(file)}/versions?file=${file}`} lists={["boot-entries"]}>
      Add from a file…
    </UploadButton>
  );
}

function Seen({ entry }: { entry: BootEntry }) {
  if (entry.hidden) return <Tag>hidden</Tag>;
  return (
    <>
      {(entry.released ?? []).map((r) => (
        <Tag key={r} color={r === "everybody" ? "green" : "blue"}>
          {r}
        </Tag>
      ))}
      {!entry.released?.length && <Typography.Text type="secondary">those who may deliver, after signing in</Typography.Text>}
      {entry.destroys && <Tag color="red">destroys the disk</Tag>}
    </>
  );
}

function Versions({ entry }: { entry: BootEntry }) {
  return (
    <Flex vertical gap={8}>
      {entry.entry_versions.map((v) => (
        <div key={v.version}>
          <b>{`${entry.boot_entry}@${v.version}`}</b>
          {v.version === entry.shown_version && <Tag style={{ marginInlineStart: 8 }}>shown</Tag>} {v.what}, from {v.origin}, {size(v.bytes)}, added {when(v.added)} by {v.added_by}
          {v.starts.map((s) => (
            <div key={s.way + s.architecture}>
              {s.way}, {s.architecture}
              {(s.way === "kernel" || s.way === "UEFI program") && (s.signer ? `, signed by ${s.signer}` : ", not signed")}, takes {size(s.memory)} of memory at least
            </div>
          ))}
          {v.remarks.map((r) => (
            <Typography.Text key={r} type="secondary" style={{ display: "block" }}>
              {r}
            </Typography.Text>
          ))}
        </div>
      ))}
    </Flex>
  );
}
