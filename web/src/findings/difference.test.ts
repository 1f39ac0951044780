import { expect, test } from "vitest";
import { spans } from "../evidence/ansi";
import { difference } from "./difference";

const changed = (parts: { text: string; changed: boolean }[]) => parts.filter((p) => p.changed).map((p) => p.text);

test.each([
  ["+-- +--", "+--+--", [" "], []],
  ["the level is 3", "the level is 4", ["3"], ["4"]],
  ["same", "same", [], []],
  ["", "new", [], ["new"]],
  ["a b c d", "a x c y", ["b", "d"], ["x", "y"]],
])("only what differs between %j and %j is marked", (a, b, left, right) => {
  const [x, y] = difference(a, b);
  expect([changed(x), changed(y)]).toEqual([left, right]);
  expect([x.map((p) => p.text).join(""), y.map((p) => p.text).join("")]).toEqual([a, b]);
});

test("very long texts are compared without hanging", () => {
  const words = Array.from({ length: 20_000 }, (_, i) => `w${i}`).join(" ");
  const [left] = difference(`${words} end`, `${words} other end`);
  expect(changed(left)).toEqual([]);
});

test.each([
  ["plain", [{ text: "plain" }]],
  ["\u001b[31mred\u001b[0m after", [{ text: "red", colour: 1 }, { text: " after" }]],
  ["\u001b[1;92mok\u001b[m", [{ text: "ok", bold: true, colour: 2 }]],
  ["\u001b[38;5;208mx\u001b[2Ky", [{ text: "x" }, { text: "y" }]],
  ["10 %\r50 %\r100 %", [{ text: "100 %" }]],
  ["\u001b]0;title\u0007text", [{ text: "text" }]],
])("terminal colours in %j", (line, parts) => {
  expect(spans(line)).toEqual(parts);
});
