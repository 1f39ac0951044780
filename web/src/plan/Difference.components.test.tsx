// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { describe, expect, it } from "vitest";
import { shown } from "../testing";
import { Difference } from "./Difference";

describe("a draft beside the plan that stands", () => {
  it.each([
    { lines: [], loosened: [], said: "nothing differs", warned: false },
    { lines: ["-a", "+b"], loosened: [], said: "+b", warned: false },
    { lines: ["-a", "+b"], loosened: ["job unit is gone"], said: "job unit is gone", warned: true },
  ])("says what it asks less: $said", ({ lines, loosened, said, warned }) => {
    shown(<Difference lines={lines} loosened={loosened} />);
    expect(screen.getByText(new RegExp(said.replace("+", "\\+")))).toBeTruthy();
    expect(screen.queryByTestId("loosened") !== null).toBe(warned);
  });
});
