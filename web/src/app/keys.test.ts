import { beforeEach, expect, test } from "vitest";
import { actions, clash, keyOf, wishKeys, type ActionId } from "./keys";

beforeEach(() => wishKeys({ off: false, own: {} }));

test("no two actions have the same key", () => {
  const ids = Object.keys(actions) as ActionId[];
  expect(ids.filter((id) => clash(id, actions[id].key, { off: false, own: {} }))).toEqual([]);
});

test.each([
  ["the usual one", { off: false, own: {} }, "matrix", "2"],
  ["the reader's own", { off: false, own: { matrix: "m" } }, "matrix", "m"],
  ["none when single keys are off", { off: true, own: {} }, "matrix", undefined],
  ["Ctrl-K also then", { off: true, own: {} }, "goto", "mod+K"],
] as const)("a key is %s", (_, wish, id, key) => {
  expect(keyOf(id, wish)).toBe(key);
});

test("a key that another action has is refused, also one of the reader's own", () => {
  expect(clash("matrix", "D", { off: false, own: {} })).toBe("change");
  expect(clash("matrix", "x", { off: false, own: { change: "x" } })).toBe("change");
  expect(clash("matrix", "d", { off: false, own: { change: "x" } })).toBeUndefined();
});
