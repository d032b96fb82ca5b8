import { useQuery } from "@tanstack/react-query";
import { Checkbox, Collapse, DatePicker, Flex, Form, Input, InputNumber, Modal, Radio, Select } from "antd";
import type { Dayjs } from "dayjs";
import { useMemo } from "react";
import { useNavigate } from "react-router";
import { ask, client, type Plan, type Version, type Workstation } from "../api/client";
import { useChange } from "../api/useChange";
import { inWords, refs } from "./acts/chosen";
import { DeliveryPlan } from "./DeliveryPlan";
import { findImages } from "./findImages";
import { SearchSelect } from "./SearchSelect";
import { Failure } from "./Shown";
import { TargetSelect } from "./TargetSelect";

interface Order {
  image?: string; // where it is not settled yet
  to: string[];
  start: "all" | "first" | "ready" | "at";
  ready?: number;
  at?: Dayjs;
  waitMinutes?: number;
  mbit?: number;
  whenDone: "stay" | "restart" | "power-off";
  grow: string;
  keep?: string[];
  sizes?: string[];
  partition?: number;
  onto?: string;
  reuse?: boolean;
  sealed?: boolean;
  drivers?: string[];
  despiteDrivers?: boolean;
  despiteFirmware?: boolean;
  asGolden?: boolean;
  domainAway?: "refuse" | "wait" | "go-on";
}

function startRule(v: Order) {
  if (v.start === "ready") return `ready:${v.ready}`;
  if (v.start === "at") return `at:${v.at?.toISOString().replace(/\.\d+Z/, "Z")}`;
  return v.start;
}

/** When the stream starts at the latest: so long from now, or from the time it waits for. */
function atLatest(v: Order) {
  if (!v.waitMinutes) return undefined;
  const now = Date.now();
  const from = v.start === "at" && v.at ? Math.max(now, v.at.valueOf()) : now;
  return new Date(from + v.waitMinutes * 60_000).toISOString();
}

/** Whether what is needed to plan has been said. */
const complete = (v: Partial<Order>) => (v.start === "ready" ? !!v.ready : v.start === "at" ? !!v.at : true) && (!v.partition || !!v.onto);

/** The order as the service takes it. */
function orderOf(image: string, to: string[], v: Order) {
  return {
    image,
    to,
    start: startRule(v),
    at_latest: atLatest(v),
    rate: (v.mbit ?? 0) * 1e6,
    when_done: v.whenDone,
    reuse: v.reuse ?? false,
    sealed: v.sealed ?? false,
    drivers: v.drivers,
    despite_drivers: v.despiteDrivers ?? false,
    despite_firmware: v.despiteFirmware ?? false,
    // What one partition alone replaces leaves the others as they are.
    ...(v.partition ? { partition: v.partition, onto: v.onto } : { keep: v.keep, sizes: v.sizes }),
    grow: v.partition || v.sizes?.length ? "system" : v.grow,
    disk: "only",
    domain_away: v.domainAway ?? ("refuse" as const),
    with_answers: v.asGolden ? ("none" as const) : ("set" as const),
  };
}

const overwrites = (plan?: Plan) => (plan ? `Overwrite ${plan.members.length} disk${plan.members.length === 1 ? "" : "s"}` : "Deliver");

interface Props {
  /** What is delivered; without it, the form asks. */
  version?: Version;
  /** To whom; without it, the form asks. */
  chosen?: Workstation[];
  close: () => void;
}

/** Orders a delivery and goes to watch it. */
export function DeliverDialog({ version, chosen, close }: Props) {
  const [form] = Form.useForm<Order>();
  const values = Form.useWatch([], form) as Partial<Order> | undefined;
  const image = version ? `${version.image}@${version.version}` : values?.image;
  const to = useMemo(() => chosen && refs(chosen), [chosen]) ?? values?.to ?? [];
  const rule = Form.useWatch("start", form);
  const navigate = useNavigate();
  const whole = useQuery({
    queryKey: ["version", image],
    queryFn: () => ask(client.GET("/versions/{version}", { params: { path: { version: image! } } })),
    enabled: !!image,
  });
  const sets = useQuery({ queryKey: ["driver-sets"], queryFn: () => ask(client.GET("/driver-sets", {})) });
  const body = image && to.length && values && complete(values) ? orderOf(image, to, values as Order) : undefined;
  const plan = useQuery({
    queryKey: ["plan", body],
    queryFn: () => ask(client.POST("/deliveries/plan", { body: body! })),
    enabled: !!body,
    retry: false,
    gcTime: 0,
  });
  const order = useChange((v: Order) => ask(client.POST("/deliveries", { body: orderOf(image!, to, v) })), ["deliveries"]);
  const submit = () =>
    form.validateFields().then((v) =>
      order.mutate(v, {
        onSuccess: (d) => {
          close();
          void navigate(`/deliveries/${d.id}`);
        },
      }),
    );
  return (
    <Modal open width={760} style={{ top: 32 }} title={chosen ? `Deliver to ${inWords(chosen)}` : `Deliver ${image}`} onCancel={close} okText={overwrites(plan.data)} okButtonProps={{ danger: true, disabled: !plan.data || !!plan.data.refused || plan.isError }} confirmLoading={order.isPending} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ start: "all", grow: "system", whenDone: "stay" }}>
        {!version && (
          <Form.Item name="image" label="Image" extra="The newest version of it that is in use" rules={[{ required: true, message: "Which image?" }]}>
            <SearchSelect name="images" find={findImages} placeholder="Image" />
          </Form.Item>
        )}
        {!chosen && <TargetSelect />}
        <Form.Item name="start" label="The stream starts when">
          <Radio.Group
            options={[
              { value: "all", label: "all are ready" },
              { value: "first", label: "the first is ready" },
              { value: "ready", label: "so many are ready" },
              { value: "at", label: "at a time" },
            ]}
          />
        </Form.Item>
        <Flex gap={16}>
          {rule === "ready" && (
            <Form.Item name="ready" label="How many" rules={[{ required: true, message: "How many?" }]}>
              <InputNumber min={1} />
            </Form.Item>
          )}
          {rule === "at" && (
            <Form.Item name="at" label="When" rules={[{ required: true, message: "When?" }]}>
              <DatePicker showTime={{ format: "HH:mm" }} format="YYYY-MM-DD HH:mm" />
            </Form.Item>
          )}
        </Flex>
        <Collapse
          ghost
          size="small"
          items={[
            {
              key: "more",
              label: "When at the latest, rate, drivers and more",
              forceRender: true,
              children: (
                <>
                  <Flex gap={16}>
                    <Form.Item name="waitMinutes" label="Start at the latest after">
                      <InputNumber min={1} max={10000} placeholder="60" suffix="min" style={{ width: 150 }} />
                    </Form.Item>
                    <Form.Item name="mbit" label="Rate">
                      <InputNumber min={1} max={100000} placeholder="as set" suffix="Mbit/s" style={{ width: 150 }} />
                    </Form.Item>
                  </Flex>
                  <Flex gap={16}>
                    <Form.Item name="whenDone" label="When a disk is right, the workstation" style={{ flex: 1 }}>
                      <Select
                        options={[
                          { value: "stay", label: "stays and waits" },
                          { value: "restart", label: "restarts from its disk" },
                          { value: "power-off", label: "switches itself off" },
                        ]}
                      />
                    </Form.Item>
                  </Flex>
                  <Form.Item name="drivers" label="Drivers for the delivered system">
                    <Select
                      mode="multiple"
                      allowClear
                      placeholder="whatever it lacks on each workstation, from the whole library"
                      options={[{ value: "none", label: "none" }, ...(sets.data?.items ?? []).map((d) => ({ value: d.name, label: `set ${d.name}` }))]}
                    />
                  </Form.Item>
                  <Form.Item name="domainAway" label="If a domain that a copy is to join does not answer">
                    <Select
                      placeholder="refuse the delivery"
                      options={[
                        { value: "refuse", label: "refuse the delivery" },
                        { value: "wait", label: "have the workstation wait until it does" },
                        { value: "go-on", label: "go on: the copy is in no domain" },
                      ]}
                    />
                  </Form.Item>
                  <Form.Item name="despiteDrivers" valuePropName="checked" noStyle>
                    <Checkbox>Deliver although a disk controller or network card would have no driver</Checkbox>
                  </Form.Item>
                  <br />
                  <Form.Item name="despiteFirmware" valuePropName="checked" noStyle>
                    <Checkbox>Deliver although the system does not start by a workstation's firmware</Checkbox>
                  </Form.Item>
                  <br />
                  <Form.Item name="asGolden" valuePropName="checked" noStyle>
                    <Checkbox>Leave copies as the golden machine was, whatever answers are set</Checkbox>
                  </Form.Item>
                  <br />
                  <Form.Item name="reuse" valuePropName="checked" noStyle>
                    <Checkbox>Check the disks first and send only what differs</Checkbox>
                  </Form.Item>
                  <br />
                  <Form.Item name="sealed" valuePropName="checked" noStyle>
                    <Checkbox>Encrypt it on the wire</Checkbox>
                  </Form.Item>
                </>
              ),
            },
            {
              key: "partitions",
              label: "Partitions: what stays on the disks, sizes, or one partition alone",
              forceRender: true,
              children: <Partitions version={whole.data} alone={!!values?.partition} sized={!!values?.sizes?.length} />,
            },
          ]}
        />
      </Form>
      {plan.isError && <Failure error={plan.error} />}
      {plan.data && !plan.isError && <DeliveryPlan plan={plan.data} />}
    </Modal>
  );
}

/** How the image is to lie on the disks. */
function Partitions({ version, alone, sized }: { version?: Version; alone: boolean; sized: boolean }) {
  const partitions = (version?.areas ?? []).filter((a) => a.partition > 0);
  return (
    <>
      <Form.Item name="keep" label="These partitions of the disks stay as they are" extra="By label, number or type. A workstation that does not have them is refused.">
        <Select mode="tags" open={false} suffixIcon={null} disabled={alone} placeholder="none: the image has the whole disk; or label=DATA" tokenSeparators={[","]} />
      </Form.Item>
      <Flex gap={16}>
        <Form.Item name="grow" label="On larger disks" style={{ flex: 1 }}>
          <Select options={growth(version)} disabled={alone || sized} />
        </Form.Item>
        <Form.Item name="sizes" label="Sizes of your own" style={{ flex: 1 }}>
          <Select mode="tags" open={false} suffixIcon={null} disabled={alone} placeholder="e.g. 2=60%, DATA=rest" tokenSeparators={[","]} />
        </Form.Item>
      </Flex>
      <Flex gap={16}>
        <Form.Item name="partition" label="Bring just one partition" style={{ flex: 1 }}>
          <Select allowClear placeholder="all of the image" options={partitions.map((a) => ({ value: a.partition, label: `partition ${a.partition}${a.name ? ` (${a.name})` : ""}` }))} />
        </Form.Item>
        <Form.Item name="onto" label="onto this one of the disk" style={{ flex: 1 }} rules={alone ? [{ required: true, message: "Onto which?" }] : []}>
          <Input disabled={!alone} placeholder="label=SYSTEM, or a number" />
        </Form.Item>
      </Flex>
    </>
  );
}

/** Which partition may take the room of a larger disk. */
function growth(version?: Version) {
  const partitions = (version?.areas ?? []).filter((a) => a.partition > 0);
  return [
    { value: "system", label: "the partition with the operating system grows" },
    { value: "last", label: "the last partition grows" },
    ...partitions.map((a) => ({ value: String(a.partition), label: `partition ${a.partition}${a.name ? ` (${a.name})` : ""} grows` })),
    { value: "none", label: "none grows; the rest stays free" },
  ];
}
