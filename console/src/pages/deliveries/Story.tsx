import { Card } from "antd";
import type { Delivery } from "../../api/client";

/** How a delivery went that is over, in words. */
export function Story({ delivery }: { delivery: Delivery }) {
  return (
    <Card size="small" title="How it went" className="story">
      {delivery.story!.map((line, i) => (
        <div key={i}>{line}</div>
      ))}
    </Card>
  );
}
