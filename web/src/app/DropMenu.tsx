import { Menu, TextInput } from "@mantine/core";
import { useEffect, useId, useState, cloneElement } from "react";
import { Link } from "react-router";
import type { DropProps } from "./Drop";

/** The menu of a `Drop`, open once it is there; its target has the focus, so that it has it again when it closes. */
export function DropMenu({ target, entries, width, atEnd = false, head, filter, nothing }: DropProps) {
  const id = useId();
  const [opened, setOpened] = useState(false);
  useEffect(() => {
    const next = setTimeout(() => {
      document.getElementById(id)?.focus();
      setOpened(true);
    });
    return () => clearTimeout(next);
  }, [id]);
  return (
    <Menu opened={opened} onChange={setOpened} position={atEnd ? "bottom-end" : "bottom-start"} width={width} shadow="none" onClose={() => filter?.onText("")}>
      <Menu.Target>{cloneElement(target, { id })}</Menu.Target>
      <Menu.Dropdown>
        {head && <Menu.Label>{head}</Menu.Label>}
        {filter && (
          <TextInput size="xs" m={4} data-autofocus placeholder={filter.placeholder} aria-label={filter.label} value={filter.text} onChange={(e) => filter.onText(e.currentTarget.value)} />
        )}
        {entries.map((entry, i) => {
          const said = { fw: entry.now ? 650 : 400, disabled: entry.disabled ?? false, leftSection: entry.left, rightSection: entry.right };
          const key = entry.key ?? i;
          return entry.to === undefined ? (
            <Menu.Item key={key} {...said} onClick={entry.onChoose}>
              {entry.title}
            </Menu.Item>
          ) : (
            <Menu.Item key={key} {...said} component={Link} to={entry.to}>
              {entry.title}
            </Menu.Item>
          );
        })}
        {entries.length === 0 && nothing && <Menu.Item disabled>{nothing}</Menu.Item>}
      </Menu.Dropdown>
    </Menu>
  );
}
