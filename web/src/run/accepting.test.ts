import { expect, test } from "vitest";
import { together } from "./Accepting";

test("what one person accepted in one go stands in one line, and nothing else with it", () => {
  const one = (subject: string, by = "Yuki", at = "2026-11-23T10:00:00Z", reason = "a loop") => ({ kind: "vanished", subject, by, at, reason });
  const found = together([one("a"), one("b"), one("c", "Ada"), one("d", "Yuki", "2026-11-24T10:00:00Z"), one("e", "Yuki", "2026-11-23T10:00:00Z", "other")]);
  expect(found.map((f) => [f.by, f.subjects])).toEqual([["Yuki", ["a", "b"]], ["Ada", ["c"]], ["Yuki", ["d"]], ["Yuki", ["e"]]]);
  expect(together([])).toEqual([]);
});
