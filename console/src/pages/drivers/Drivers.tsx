import { Tabs } from "antd";
import { useSearchParams } from "react-router";
import { PageTitle } from "../../parts/PageTitle";
import { AddButton } from "./AddButton";
import { Coverage } from "./Coverage";
import { Library } from "./Library";
import { Sets } from "./Sets";

/** What drivers there are, and which workstations would lack one. */
export function Drivers() {
  const [params, setParams] = useSearchParams();
  return (
    <>
      <PageTitle title="Drivers">
        <AddButton />
      </PageTitle>
      <Tabs
        activeKey={params.get("show") ?? "coverage"}
        onChange={(show) => setParams({ show })}
        destroyOnHidden
        items={[
          { key: "coverage", label: "Coverage", children: <Coverage /> },
          { key: "library", label: "Library", children: <Library /> },
          { key: "sets", label: "Sets", children: <Sets /> },
        ]}
      />
    </>
  );
}
