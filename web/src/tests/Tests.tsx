import "@mantine/core/styles/NumberInput.css";
import "@mantine/core/styles/FloatingIndicator.css";
import "@mantine/core/styles/SegmentedControl.css";
import { Menu, NumberInput, SegmentedControl, TextInput } from "@mantine/core";
import { useDebouncedCallback } from "@mantine/hooks";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { readAddress, useAddress, written, type Address } from "../app/address";
import { Loading, Trouble } from "../app/Awaited";
import { KeptFilters } from "../app/KeptFilters";
import { testsQuery } from "../app/queries";
import { counted, duration } from "../app/words";
import type { Run } from "../api/client";
import { Aside, type Chosen } from "./Aside";
import { Grid } from "./Grid";
import classes from "./tests.module.css";
import { choices, toggled } from "./tree";

const states = [
  { value: "not-passed", label: "did not pass" },
  { value: "new", label: "new" },
  { value: "known", label: "known" },
  { value: "flaky", label: "flaky" },
  { value: "skipped", label: "skipped" },
  { value: "all", label: "all" },
];

/** Every test of the run against every cell; what is left out by a filter is always stated. */
export function Tests({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const [text, setText] = useState(address.search);
  const [chosen, setChosen] = useState<Chosen>(new Map());
  const wanted = { base: address.base, state: address.state, search: address.search, slower: address.slower, cells: address.cells };
  const first = useQuery(testsQuery(run.project, run.run.number, wanted, 0, 200));
  const search = useDebouncedCallback((value: string) => go({ search: value }, true), 250);
  if (!first.data) return first.error ? <Trouble what="The tests" error={first.error} onAgain={() => void first.refetch()} /> : <Loading what="The tests" rows={8} />;
  const { total, shown, cells, kinds } = first.data;
  const exported = (form: string) => `/api/v1/projects/${encodeURIComponent(run.project)}/runs/${run.run.number}/results.${form}`;
  return (
    <>
      <p className={classes.intro}>
        {counted(total, "test")} in {counted(cells.length, address.cells.length ? "chosen cell" : "cell")}
        {kinds.length > 1 && `: ${kinds.map((k) => `${k.tests.toLocaleString("en")} ${k.kind} in ${duration(k.seconds)}`).join(", ")}`}.{" "}
        {shown < total ? `${counted(shown, "is", "are")} shown, ${(total - shown).toLocaleString("en")} hidden by what is chosen below.` : "All are shown."}
      </p>
      <div className={classes.bar}>
        <TextInput
          size="xs"
          w={220}
          placeholder="Search by name"
          aria-label="Search tests"
          value={text}
          onChange={(e) => {
            setText(e.currentTarget.value);
            search(e.currentTarget.value);
          }}
        />
        <SegmentedControl size="xs" data={states} value={address.state} onChange={(state) => go({ state }, true)} aria-label="Which tests" />
        <NumberInput size="xs" w={150} placeholder="slower than, s" aria-label="Slower than, seconds" min={0} value={address.slower ?? ""} onChange={(v) => go({ slower: v === "" ? undefined : Number(v) }, true)} />
        <Narrow run={run} />
        <span className={classes.downloads}>
          All results: <a href={exported("xml")}>JUnit XML</a>, <a href={exported("csv")}>CSV</a>, <a href={exported("parquet")}>Parquet</a>
        </span>
      </div>
      <div className={classes.acts}>
        <KeptFilters project={run.project} page="tests" query={asked(address)} onChoose={(query) => {
            const kept = tests(readAddress("", query));
            setText(kept.search);
            go(kept, true);
          }} />
        {shown > 0 && <Aside key={JSON.stringify(wanted)} run={run} wanted={wanted} shown={shown} chosen={chosen} onChosen={setChosen} />}
      </div>
      {shown === 0 ? <p className="soft">{total === 0 ? "No test gave a result in these cells yet." : "No test fits; choose “all” to see every test."}</p> : <Grid key={`${JSON.stringify(wanted)} ${first.isPlaceholderData}`} run={run} wanted={wanted} page={first.data} chosen={chosen} onChosen={setChosen} />}
    </>
  );
}

/** What of an address says which tests are shown. */
const tests = ({ state, search, slower, cells }: Address): Pick<Address, "state" | "search" | "slower" | "cells"> => ({ state, search, slower, cells });

/** The same as a query. */
const asked = (address: Address): string => written({ project: "", ...tests(address) }).split("?")[1] ?? "";

const MANY = 14; // values of a dimension that stand in a row

/** A dimension of many values: its values by name, in a menu. */
function ManyValues({ dimension, values, onChoose }: { dimension: string; values: { value: string; chosen: boolean }[]; onChoose: (value: string) => void }) {
  const [text, setText] = useState("");
  const fitting = values.filter((v) => v.value.toLowerCase().includes(text.toLowerCase()));
  return (
    <Menu position="bottom-start" width={240} shadow="none" closeOnItemClick={false} onClose={() => setText("")}>
      <Menu.Target>
        <button type="button">{counted(values.length, "value")}…</button>
      </Menu.Target>
      <Menu.Dropdown className={classes.values}>
        <TextInput size="xs" m={4} data-autofocus aria-label={`Filter values of ${dimension}`} placeholder="Type to filter" value={text} onChange={(e) => setText(e.currentTarget.value)} />
        {fitting.map((v) => (
          <Menu.Item key={v.value} fw={v.chosen ? 650 : 400} onClick={() => onChoose(v.value)}>
            {v.value}
          </Menu.Item>
        ))}
        {fitting.length === 0 && <Menu.Item disabled>no value has that</Menu.Item>}
      </Menu.Dropdown>
    </Menu>
  );
}

/** Switches for the values of each dimension: only the cells that have them are shown. */
function Narrow({ run }: { run: Run }) {
  const [address, go] = useAddress();
  const cells = run.cells.filter((c) => c.selected);
  const dimensions = choices(cells, address.cells);
  if (dimensions.length === 0) return null;
  return (
    <div className={classes.narrow}>
      {dimensions.map(({ dimension, values }) => (
        <span key={dimension} role="group" aria-label={`Cells by ${dimension}`}>
          {dimension}
          {values.length > MANY && <ManyValues dimension={dimension} values={values} onChoose={(value) => go({ cells: toggled(cells, address.cells, dimension, value) }, true)} />}
          {values.filter((v) => values.length <= MANY || v.chosen).map(({ value, chosen }) => (
            <button key={value} type="button" aria-pressed={chosen} onClick={() => go({ cells: toggled(cells, address.cells, dimension, value) }, true)}>
              {value}
            </button>
          ))}
        </span>
      ))}
      {address.cells.length > 0 && (
        <button type="button" className={classes.all} onClick={() => go({ cells: [] }, true)}>
          All cells
        </button>
      )}
    </div>
  );
}
