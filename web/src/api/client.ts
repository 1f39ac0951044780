/** The typed client of our own API; types are generated from its OpenAPI description. */
import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type Project = Schemas["ProjectLine"];
export type Strip = Schemas["Strip"];
export type Column = Schemas["Column"];
export type Lane = Schemas["Lane"];
export type Run = Schemas["RunView"];
export type RunLine = Schemas["RunLine"];
export type Cell = Schemas["CellView"];
export type Rule = Schemas["JudgedRule"];
export type Morning = Schemas["Morning"];
export type MorningCause = Schemas["MorningCause"];
export type Turned = Schemas["Turned"];
export type ScheduleTold = Schemas["ScheduleTold"];
export type Releases = Schemas["Releases"];
export type ReleaseCard = Schemas["ReleaseCard"];
export type Target = Schemas["TargetView"];
export type DrillStep = Schemas["DrillStep"];
export type Cost = Schemas["Cost"];
export type Rankings = Schemas["Rankings"];
export type PartCost = Schemas["PartCost"];
export type Waiver = Schemas["WaiverView"];
export type Pull = Schemas["PullLine"];
export type Batch = Schemas["BatchView"];
export type Foreign = Schemas["ForeignView"];
export type Trends = Schemas["Trends"];
export type TrendRuns = Schemas["TrendRuns"];
export type SeriesChange = Schemas["SeriesChange"];
export type Fewer = Schemas["FewerCells"];
export type BranchReport = Schemas["BranchReport"];
export type ReportRow = Schemas["ReportRow"];
export type Sizes = Schemas["Sizes"];
export type VersionLine = Schemas["VersionLine"];
export type NewVersion = Schemas["NewVersion"];
export type WhatIf = Schemas["WhatIf"];
export type ValueRecord = Schemas["ValueRecord"];
export type Way = Schemas["WayView"];
export type Hearer = Schemas["HearerView"];
export type SentLine = Schemas["SentView"];
export type Difference = Schemas["Difference"];
export type FileChange = Schemas["FileChange"];
export type Finding = Schemas["Finding"];
export type OtherFinding = Schemas["OtherFinding"];
export type TroubledCells = Schemas["TroubledCells"];
export type RunCoverage = Schemas["CoverageOfRun"];
export type CoveragePoint = Schemas["CoveragePoint"];
export type FileShare = Schemas["FileShare"];
export type FileCoverage = Schemas["CoverageOfFile"];
export type TestsPage = Schemas["TestsPage"];
export type TestRow = Schemas["TestRow"];
export type TestHeading = Schemas["Heading"];
export type TestView = Schemas["TestView"];
export type Flake = Schemas["FlakeView"];
export type Findings = Schemas["Findings"];
export type Attempt = Schemas["AttemptView"];
export type Step = Schemas["StepView"];
export type AttemptRecord = Schemas["RecordView"];
export type Setting = Schemas["SettingView"];
export type Timeline = Schemas["Timeline"];
export type TimelineRow = Schemas["TimelineRow"];
export type Bar = Schemas["Bar"];
export type LogLine = Schemas["LogLine"];
export type Usual = Schemas["Usual"];
export type Report = Schemas["ReportView"];
export type Runner = Schemas["RunnerView"];
export type RunnerPass = Schemas["RunnerPass"];
export type FoundCause = Schemas["FoundCause"];
export type Queue = Schemas["Queue"];
export type Queued = Schemas["Queued"];
export type Secret = Schemas["SecretView"];
export type CacheLine = Schemas["CacheLine"];
export type DeskProject = Schemas["DeskProject"];
export type DeskRun = Schemas["DeskRun"];
export type StuckCell = Schemas["StuckCell"];
export type PlanProblem = Schemas["PlanProblem"];
export type Meaning = Schemas["Meaning"];
export type Rehearsal = Schemas["Rehearsal"];
export type JobMeaning = Schemas["JobMeaning"];
export type CellMeaning = Schemas["CellMeaning"];
export type Standing = Schemas["Standing"];
export type Proposal = Schemas["Proposal"];
export type WantedEvent = Schemas["WantedEvent"];
export type Looked = Schemas["Looked"];
export type Coming = Schemas["Coming"];

/** What went wrong with a call, in the server's words. */
export class CallError extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly mend: string,
  ) {
    super(message);
  }
}

/** The error of an answer that is a problem; undefined for any other. */
export async function problemOf(response: Response): Promise<CallError | undefined> {
  if (response.ok) return undefined;
  const problem = ((await response.clone().json().catch(() => null)) ?? {}) as { detail?: unknown; mend?: unknown };
  const detail = typeof problem.detail === "string" ? problem.detail : response.statusText || `the server answered ${response.status}`;
  return new CallError(response.status, detail, typeof problem.mend === "string" ? problem.mend : "");
}

/** Asked by whole addresses, and by whatever `fetch` is when it is asked, so that tests can answer. */
export const api = createClient<paths>({ baseUrl: typeof location === "undefined" ? "" : location.origin, fetch: (request) => globalThis.fetch(request) });

// Every problem is thrown where it arrives: no call can go wrong in silence.
api.use({
  async onResponse({ response }) {
    const problem = await problemOf(response);
    if (problem) throw problem;
  },
});

/** The data of an answer. */
export async function taken<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}
