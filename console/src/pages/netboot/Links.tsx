import { Card, Table, Tag } from "antd";
import type { NetbootLink } from "../../api/client";

const modes: Record<string, string> = {
  beside: "beside another server, which gives the addresses",
  whole: "gives addresses, too",
  off: "no DHCP; files only",
};

const policies: Record<string, string> = {
  ignore: "get no answer",
  hold: "boot, and wait to be admitted",
  welcome: "show a menu, with more after signing in",
};

/** The interfaces that are served, and what is answered there. */
export function Links({ links, unknown }: { links: NetbootLink[]; unknown: string }) {
  return (
    <Card title="Interfaces" extra={`Unknown machines ${policies[unknown]}`} styles={{ body: { padding: 0 } }}>
      <Table<NetbootLink>
        size="small"
        pagination={false}
        rowKey="interface"
        dataSource={links}
        locale={{ emptyText: "Network boot is not served on any interface (jugate serve --netboot)" }}
        columns={[
          { title: "Interface", dataIndex: "interface", render: (name: string) => <b>{name}</b> },
          { title: "Mode", dataIndex: "mode", render: (m: string) => `${m}: ${modes[m]}` },
          { title: "Address", dataIndex: "address" },
          { title: "State", dataIndex: "state", render: (s: string) => <Tag color={s === "serving" ? "green" : "volcano"}>{s}</Tag> },
          { title: "Addresses left", render: (_, l) => l.pools?.map((p) => <div key={p.range}>{`${p.left} of ${p.in_all} (${p.range})`}</div>) },
        ]}
      />
    </Card>
  );
}
