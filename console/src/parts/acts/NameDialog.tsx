import { useQuery } from "@tanstack/react-query";
import { Flex, Form, Input, Modal, Radio, Table } from "antd";
import { useDeferredValue } from "react";
import { ask, client, type Named, type Workstation } from "../../api/client";
import { useChange } from "../../api/useChange";
import { Address } from "../Address";
import { GroupSelect } from "../GroupSelect";
import { Failure } from "../Shown";

interface Values {
  pattern: string;
  groups?: string[];
  order: "address" | "appearance";
}

/** Names newcomers, whom it admits, and workstations by a pattern, and shows the names while it is typed. */
export function NameDialog({ chosen, close }: { chosen: Workstation[]; close: () => void }) {
  const [form] = Form.useForm<Values>();
  const values = useDeferredValue(Form.useWatch([], form) as Values | undefined);
  const order = (v: Values) => ({ ...v, to: chosen.map((w) => w.hardware_addresses[0]) });
  const names = useQuery({
    queryKey: ["names", values, chosen.map((w) => w.id)],
    queryFn: () => ask(client.POST("/roster/names", { body: { ...order(values!), dry_run: true } })),
    enabled: !!values?.pattern,
    retry: false,
    gcTime: 0,
  });
  const fresh = chosen.every((w) => !w.name);
  const admit = useChange((v: Values) => ask(client.POST("/roster/names", { body: order(v) })), ["newcomers", "workstations", "groups"], (all) => (fresh ? `${all?.length ?? 0} workstations are in the roster.` : `${all?.length ?? 0} workstations have these names.`));
  const submit = () => form.validateFields().then((v) => admit.mutate(v, { onSuccess: close }));
  return (
    <Modal open width={720} title={`Name ${chosen.length} ${fresh ? "newcomers" : "workstations"} by a pattern`} okText={fresh ? "Admit them" : "Name them"} onCancel={close} confirmLoading={admit.isPending} okButtonProps={{ disabled: !names.data || names.isError }} onOk={() => void submit()}>
      <Form form={form} layout="vertical" initialValues={{ pattern: "herb-{number:02}", order: "appearance" }}>
        <Form.Item name="pattern" label="Pattern" extra="Values are {number:02}, {group}, {serial:last4}, {model:short}, {maker}, {address} and {uuid}." rules={[{ required: true, message: "Which?" }]}>
          <Input />
        </Form.Item>
        <Flex gap={16}>
          <Form.Item name="groups" label="Into groups" style={{ flex: 1 }}>
            <GroupSelect mode="multiple" placeholder="Groups" />
          </Form.Item>
          <Form.Item name="order" label="The first number goes to">
            <Radio.Group
              options={[
                { value: "appearance", label: "who was switched on first" },
                { value: "address", label: "the lowest address" },
              ]}
            />
          </Form.Item>
        </Flex>
      </Form>
      {names.isError ? (
        <Failure error={names.error} />
      ) : (
        <Table<Named>
          size="small"
          rowKey="hardware_address"
          loading={names.isFetching}
          dataSource={names.data ?? []}
          pagination={(names.data?.length ?? 0) > 8 ? { pageSize: 8, showSizeChanger: false } : false}
          columns={[
            { title: "Hardware address", render: (_, n) => <Address text={n.hardware_address} /> },
            { title: "Model", dataIndex: "model" },
            { title: "Serial", dataIndex: "serial" },
            { title: "Name", render: (_, n) => <b>{n.name}</b> },
          ]}
        />
      )}
    </Modal>
  );
}
