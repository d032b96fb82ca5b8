import { useQuery } from "@tanstack/react-query";
import { Descriptions } from "antd";
import { ask, client, type Workstation } from "../../api/client";
import { size, when, whole } from "../../format";
import { Address } from "../../parts/Address";
import { refs } from "../../parts/acts/chosen";
import { Outcome } from "../../parts/Outcome";
import { Shown } from "../../parts/Shown";

/** What a workstation is made of. */
export function Inventory({ workstation }: { workstation: Workstation }) {
  const [ref] = refs([workstation]);
  const query = useQuery({ queryKey: ["workstation", ref], queryFn: () => ask(client.GET("/workstations/{workstation}", { params: { path: { workstation: ref } } })) });
  return <Shown query={query}>{(w) => <Parts workstation={w} />}</Shown>;
}

/** What a workstation is made of, and when it was seen. */
export function Parts({ workstation: w }: { workstation: Workstation }) {
  return (
    <Descriptions size="small" column={{ xs: 1, md: 2 }}>
      <Descriptions.Item label="State">
        <Outcome state={w.state} />
      </Descriptions.Item>
      <Descriptions.Item label="Memory">{size(w.memory)}</Descriptions.Item>
      <Descriptions.Item label="Agent">{w.agent_version}</Descriptions.Item>
      {w.site && <Descriptions.Item label="Site">{w.site}</Descriptions.Item>}
      <Descriptions.Item label="Disks">
        <div>
          {w.inventory?.disks.map((d) => (
            <div key={d.serial}>
              {d.model}, {whole(d.size)} bytes, sectors of {d.sector_size}, serial {d.serial}
              {d.partitions?.map((p) => (
                <div key={p.number} style={{ paddingLeft: 12 }}>
                  {p.number}: {size((p.last_sector - p.first_sector + 1) * d.sector_size)} {p.kind} {p.label || p.name}
                </div>
              ))}
            </div>
          ))}
        </div>
      </Descriptions.Item>
      <Descriptions.Item label="Network cards">
        <div>
          {w.inventory?.network_cards.map((c) => (
            <div key={c.hardware_address}>
              <Address text={c.hardware_address} /> {c.model}
            </div>
          ))}
        </div>
      </Descriptions.Item>
      {w.helper && (
        <Descriptions.Item label="Its system">
          {w.helper.running ? "is on" : "is off, or away"}
          {w.helper.verb && `, was told to ${w.helper.verb === "restart" ? "restart" : "switch itself off"}`}
        </Descriptions.Item>
      )}
      {w.note && <Descriptions.Item label="Note">{w.note}</Descriptions.Item>}
      {Object.entries(w.fields).map(([name, value]) => (
        <Descriptions.Item key={name} label={name}>
          {value}
        </Descriptions.Item>
      ))}
      <Descriptions.Item label="Seen">
        {w.first_seen && w.last_seen ? `${when(w.first_seen)} to ${when(w.last_seen)}` : "never"}
      </Descriptions.Item>
    </Descriptions>
  );
}
