import { useQuery } from "@tanstack/react-query";
import { Flex, Typography } from "antd";
import { ask, client, type Line } from "../../api/client";
import { when } from "../../format";
import { Shown } from "../../parts/Shown";

/** How many lines are asked for, and how many are shown. */
const [asked, most] = [50, 10];

/** Whether a line of the logbook speaks of a name, and not just of one that begins with it. */
function speaksOf(l: Line, name: string): boolean {
  const words = `${l.subject} ${JSON.stringify(l.details)}`.toLowerCase().split(/[^\p{L}\p{N}._:-]+/u);
  return words.includes(name.toLowerCase());
}

/** Who changed something of a workstation. */
export function Lines({ name }: { name: string }) {
  const query = useQuery({ queryKey: ["logbook", "of", name], queryFn: () => ask(client.GET("/logbook", { params: { query: { search: name, limit: asked } } })) });
  return (
    <Shown query={query}>
      {({ items }) => {
        const lines = items.filter((l) => speaksOf(l, name)).slice(0, most);
        if (lines.length === 0) return <Typography.Text type="secondary">Nobody has changed anything yet.</Typography.Text>;
        return lines.map((l) => (
          <Flex key={l.line} gap={8} wrap>
            <Typography.Text type="secondary">{when(l.at)}</Typography.Text>
            <b>{l.who}</b>
            <span>{l.operation}</span>
          </Flex>
        ));
      }}
    </Shown>
  );
}
