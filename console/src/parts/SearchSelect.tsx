import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Select, type SelectProps } from "antd";
import { useDeferredValue, useState } from "react";

type Options = NonNullable<SelectProps["options"]>;

/** A select whose options the service looks for: there may be thousands. */
export function SearchSelect({ name, find, ...select }: SelectProps & { name: string; find: (search: string | undefined) => Promise<Options> }) {
  const [typed, setTyped] = useState("");
  const search = useDeferredValue(typed) || undefined;
  const options = useQuery({ queryKey: [name, "options", search], queryFn: () => find(search), placeholderData: keepPreviousData });
  return (
    <Select
      aria-label={typeof select.placeholder === "string" ? select.placeholder : undefined} // for those that no form labels
      showSearch={{ filterOption: false, onSearch: setTyped }}
      options={options.data}
      loading={options.isFetching}
      status={options.isError ? "error" : undefined}
      notFoundContent={options.isError ? options.error.message : options.isPending ? "…" : "nothing of that name"}
      {...select}
    />
  );
}
