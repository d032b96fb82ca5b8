import { Button, Flex, Popconfirm } from "antd";

/** What can be done with something outside that was entered: ask whether it answers, or forget it. */
export function CheckOrRemove({ name, loses, checking, onCheck, onRemove }: { name: string; loses: string; checking: boolean; onCheck: () => void; onRemove: () => void }) {
  return (
    <Flex gap={8} justify="end">
      <Button size="small" loading={checking} onClick={onCheck}>
        Check
      </Button>
      <Popconfirm title={`Forget ${name}?`} description={loses} okText="Forget" onConfirm={onRemove}>
        <Button size="small">Remove</Button>
      </Popconfirm>
    </Flex>
  );
}
