// @vitest-environment jsdom
import { expect, test } from "vitest";
import { screen } from "@testing-library/react";
import { shown } from "../testing";
import { growth, Told } from "./SizesPage";

test("each part says what it weighs and how it grows", () => {
  shown(
    <Told
      sizes={{
        said: "5.2 GB in the database and 1.0 GB in files; 70.0 GB are free.",
        database: 5_200_000_000,
        files: 1_000_000_000,
        free: 70_000_000_000,
        subjects: [
          { what: "results of tests", bytes: 4_000_000_000, a_day: 12_000_000 },
          { what: "logs", bytes: 900_000, a_day: null },
        ],
        tables: [{ name: "segment", bytes: 3_900_000_000, rows: 1_400_000 }],
        days: [],
      }}
    />,
  );
  expect(screen.getByRole("heading", { level: 1 }).textContent).toContain("70.0 GB are free");
  expect(screen.getByRole("row", { name: /results of tests 4.0 GB/ }).textContent).toContain("grows by 12.0 MB a day");
  expect(screen.getByRole("row", { name: /logs 900.0 kB/ })).toBeDefined();
  expect(screen.getByRole("row", { name: /segment/ }).textContent).toContain("1,400,000");
  expect(screen.queryByText("All together, by day")).toBeNull();
});

test.each([
  [null, ""],
  [0, "does not grow"],
  [2500, "grows by 2.5 kB a day"],
  [-3_000_000, "shrinks by 3.0 MB a day"],
])("growth of %s", (aDay, said) => expect(growth(aDay)).toBe(said));
