import { Autocomplete } from "@mantine/core";
import { useDebouncedValue } from "@mantine/hooks";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { createContext, useContext, useState } from "react";
import { api, take } from "../api/client";

/** The account that paths on the host are looked up as. */
export const SeenAs = createContext("");

type Props = {
  label: string;
  description?: string;
  error?: string | undefined;
  required?: boolean;
  placeholder?: string | undefined;
  value: string;
  onChange: (text: string) => void;
  "aria-describedby"?: string;
};

/** A path on the host, completed while one types, as the account sees it. */
export function PathInput(props: Props) {
  const account = useContext(SeenAs);
  const [open, setOpen] = useState(false);
  const [settled] = useDebouncedValue(props.value.trim(), 150);
  const paths = useQuery({
    queryKey: ["paths", account, settled],
    queryFn: () => take(api.GET("/api/paths", { params: { query: { beginning: settled, account } } })),
    enabled: open && settled.startsWith("/"),
    placeholderData: keepPreviousData,
    gcTime: 0,
  });
  const found = open && settled.startsWith("/") ? paths.data : undefined;
  const kinds = new Map(found?.paths.map((one) => [one.path, one.kind]));
  return (
    <div>
      <Autocomplete
        {...props}
        data={[...kinds.keys()]}
        filter={({ options }) => options}
        limit={200}
        maxDropdownHeight={260}
        comboboxProps={{ withinPortal: false }}
        autoComplete="off"
        spellCheck={false}
        dropdownOpened={open && kinds.size > 0}
        onDropdownOpen={() => setOpen(true)}
        onDropdownClose={() => setOpen(false)}
        // What is in a directory is offered as soon as it was chosen.
        onOptionSubmit={(path) => setTimeout(() => setOpen(path.endsWith("/")))}
        renderOption={({ option }) => (
          <span className="path">
            {option.value} <span className="quiet">{kinds.get(option.value) === "program" && "program"}</span>
          </span>
        )}
      />
      {(found?.trouble || found?.more) && (
        <p className="quiet" role="status" style={{ margin: "2px 0 0", fontSize: 13 }}>
          {found.trouble ?? `More than ${found.paths.length} begin so: type on.`}
        </p>
      )}
    </div>
  );
}
