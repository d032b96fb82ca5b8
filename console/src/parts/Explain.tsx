import { QuestionCircleOutlined } from "@ant-design/icons";
import { useQuery } from "@tanstack/react-query";
import { Popover } from "antd";
import { ask, client } from "../api/client";

/** A question mark behind a heading: what its states, or one word, mean. */
export function Explain({ kind, name }: { kind?: string; name?: string }) {
  const terms = useQuery({ queryKey: ["terms"], queryFn: () => ask(client.GET("/terms", {})), staleTime: Infinity });
  const found = (terms.data?.items ?? []).filter((t) => (!kind || t.kind === kind) && (!name || t.name === name));
  if (!found.length) return null;
  const text = (
    <dl style={{ maxWidth: 420, margin: 0 }}>
      {found.map((t) => (
        <div key={`${t.kind} ${t.name}`} style={{ marginBottom: 6 }}>
          <dt>
            <b>{t.name}</b>
          </dt>
          <dd style={{ margin: 0 }}>{t.text}</dd>
        </div>
      ))}
    </dl>
  );
  return (
    <Popover content={text} trigger="click">
      <QuestionCircleOutlined aria-label="What does this mean?" style={{ marginLeft: 6, opacity: 0.5, cursor: "pointer" }} onClick={(e) => e.stopPropagation()} />
    </Popover>
  );
}

interface Heading {
  title: string;
  of: { kind?: string; name?: string };
}

function Explained({ title, of }: Heading) {
  return (
    <>
      {title}
      <Explain {...of} />
    </>
  );
}

/** A heading with its question mark. */
export const explained = (title: string, of: Heading["of"]) => <Explained title={title} of={of} />;
