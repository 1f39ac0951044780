/** What each mark means, in a sentence of its own. */
import type { Mark, Verdict } from "./shapes";

export const markSays: Partial<Record<Mark, string>> = {
  passed: "every test that ran passed",
  new: "tests fail here that passed at the baseline",
  first: "tests fail, and there is no earlier result here to compare with",
  known: "tests fail here that failed at the baseline already",
  "came-back": "what was fixed fails again",
  fixed: "tests pass here that failed at the baseline",
  flaky: "both outcomes on the same commit",
  quarantined: "only tests fail that a person has set aside",
  void: "no result that can be trusted: crashed, out of time, runner lost, report missing or unreadable",
  running: "runs; filled as far as it should be by now",
  waiting: "waits for its turn or for a runner",
  skipped: "did not run, for a reason that is said",
  "not-selected": "left out by the sample; it can be run from the Matrix",
  stopped: "ended by a person or by a newer commit",
};

export const verdictSays: Partial<Record<Verdict, string>> = {
  clear: "every rule of the gate is met",
  held: "a rule is not met, or there is no result that can be trusted",
  undecided: "still runs, or was overtaken before it was judged",
  exempt: "nothing that its jobs watch was changed",
};
