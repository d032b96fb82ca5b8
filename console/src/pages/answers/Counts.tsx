import { useQuery } from "@tanstack/react-query";
import { Alert, Card, Flex, Table, Tag, Typography } from "antd";
import { useState } from "react";
import { ask, client, type AnswersChange, type ResolvedAnswer } from "../../api/client";
import { findImages } from "../../parts/findImages";
import { findWorkstations } from "../../parts/findWorkstations";
import { SearchSelect } from "../../parts/SearchSelect";
import { Shown } from "../../parts/Shown";
import { inLine } from "../../parts/answerValue";

/** What counts for one workstation, and what it does to an image. */
export function Counts() {
  const [workstation, setWorkstation] = useState<string>();
  const [image, setImage] = useState<string>();
  return (
    <Card
      title="What a workstation becomes"
      extra={
        <Flex gap={8}>
          <SearchSelect id="answered" name="answered" find={findWorkstations} placeholder="Workstation" value={workstation} onChange={setWorkstation} style={{ width: 180 }} />
          <SearchSelect id="answered-image" name="answered-images" find={findImages} allowClear placeholder="Image, for a preview" value={image} onChange={setImage} style={{ width: 220 }} />
        </Flex>
      }
    >
      {workstation ? (
        <Flex vertical gap={16}>
          <Resolved workstation={workstation} image={image} />
          {image && <Preview workstation={workstation} image={image} />}
        </Flex>
      ) : (
        <Typography.Text type="secondary">Choose a workstation to see its answers and where each is set; with an image, what they change on its copy.</Typography.Text>
      )}
    </Card>
  );
}

function Resolved({ workstation, image }: { workstation: string; image?: string }) {
  const query = useQuery({
    queryKey: ["answers", "of", workstation, image],
    queryFn: () => ask(client.GET("/workstations/{workstation}/answers", { params: { path: { workstation }, query: { image } } })),
  });
  return (
    <Shown query={query}>
      {(r) => (
        <>
          {r.problems.map((p) => (
            <Alert key={p} type="error" showIcon title={p} />
          ))}
          <Table<ResolvedAnswer>
            size="small"
            rowKey="key"
            dataSource={r.answers}
            pagination={false}
            locale={{ emptyText: "Nothing is set for it, so its copy is as the golden machine was." }}
            columns={[
              { title: "Answer", width: 180, render: (_, a) => <b>{a.key}</b> },
              { title: "Value", ellipsis: true, render: (_, a) => inLine(a.value) },
              { title: "Set by", dataIndex: "set_by" },
              { title: "And not by", render: (_, a) => a.hides.join(", ") },
            ]}
          />
        </>
      )}
    </Shown>
  );
}

function Preview({ workstation, image }: { workstation: string; image: string }) {
  const query = useQuery({
    queryKey: ["answers", "preview", workstation, image],
    queryFn: () => ask(client.GET("/workstations/{workstation}/answers/preview", { params: { path: { workstation }, query: { image } } })),
    retry: false,
  });
  return (
    <Shown query={query}>
      {(p) => (
        <Flex vertical gap={8}>
          <Typography.Text strong>{`On a copy of ${p.image} (${p.system})`}</Typography.Text>
          {p.remarks.map((r) => (
            <Alert key={r} type="warning" showIcon title={r} />
          ))}
          <Table<AnswersChange>
            size="small"
            rowKey={(c) => `${c.action} ${c.path}`}
            dataSource={p.file_changes}
            pagination={p.file_changes.length > 12 ? { pageSize: 12, showSizeChanger: false } : false}
            expandable={{ rowExpandable: (c) => !!c.text_after || !!c.text_before, expandedRowRender: (c) => <Texts change={c} /> }}
            columns={[
              { title: "What", width: 90, render: (_, c) => <Tag>{c.action}</Tag> },
              { title: "File", render: (_, c) => <code>{c.target ? `${c.path} → ${c.target}` : c.path}</code> },
              { title: "Mode", width: 70, dataIndex: "mode" },
              { title: "Owner", width: 100, dataIndex: "owner" },
              { title: "Because of", dataIndex: "because" },
            ]}
          />
        </Flex>
      )}
    </Shown>
  );
}

/** A file before and after. */
function Texts({ change }: { change: AnswersChange }) {
  return (
    <Flex gap={16}>
      {[
        ["golden machine", change.text_before],
        ["copy", change.text_after],
      ].map(([title, text]) => (
        <div key={title} style={{ flex: 1, minWidth: 0 }}>
          <Typography.Text type="secondary">{title}</Typography.Text>
          <pre style={{ margin: 0, overflow: "auto", maxHeight: 300 }}>{text || "(nothing)"}</pre>
        </div>
      ))}
    </Flex>
  );
}
