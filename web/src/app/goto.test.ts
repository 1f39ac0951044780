import { expect, test } from "vitest";
import { offered } from "./GoTo";

const run = (number: number, text: string) => ({ id: `r/${number}`, kind: `#${number}`, text, detail: "ada" });
const page = { id: "runners", kind: "page", text: "Runners", detail: "" };

test.each([
  ["87", ["#87", "#88"]], // a title that holds the number does not come first
  ["back out #87", ["#88"]],
  ["runners", ["page", "#86"]],
])("what is called exactly %s comes first", (wanted, kinds) => {
  const found = [[run(88, "Back out #87"), run(87, "Read the gauge"), run(86, "Fewer runners")], [page]];
  expect(offered(found, wanted).map((t) => t.kind)).toEqual(kinds);
});
