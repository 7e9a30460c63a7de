import type { components } from "./schema";

type Schemas = components["schemas"];
export type Run = Schemas["Run"];
export type RunSummary = Schemas["RunSummary"];
export type Pane = Schemas["Pane"];
export type Cell = Schemas["Cell"];
export type Test = Schemas["Test"];
export type TestResult = Schemas["TestResult"];
export type PaneAttempts = Schemas["PaneAttempts"];
export type Attempt = Schemas["Attempt"];
export type StepResult = Schemas["AttemptStep"];
export type Who = Schemas["Who"];
export type Agent = Schemas["Agent"];
export type Bisect = Schemas["Bisect"];
export type BisectTry = Schemas["BisectTry"];
export type Cause = Schemas["Cause"];
export type Causes = Schemas["Causes"];
export type CausePage = Schemas["CausePage"];
export type Account = Schemas["Account"];
export type MyAccount = Schemas["MyAccount"];
export type SignInWays = Schemas["SignInWays"];
export type Defect = Schemas["Defect"];
export type DefectForm = Schemas["DefectForm"];
export type Tracker = Schemas["Tracker"];
export type Aside = Schemas["Aside"];
export type AsideRequest = Schemas["AsideSetIn"];
export type Located = Schemas["Located"];
export type Past = Schemas["Past"];
export type Beside = Schemas["Beside"];
export type BesideSide = Schemas["BesideSide"];
export type BesideStep = Schemas["BesideStep"];
export type AgedLocators = Schemas["AgedLocators"];
export type AgedLocator = Schemas["AgedLocator"];
export type Change = Schemas["TriageChange"];
export type Compared = Schemas["Compared"];
export type LabAgent = Schemas["LabAgent"];
export type LabDay = Schemas["LabDay"];
export type LabTrends = Schemas["LabTrends"];
export type Words = Schemas["Words"];
export type Delivery = Schemas["Delivery"];
export type NewSubscription = Schemas["NewSubscription"];
export type Subscription = Schemas["Subscription"];
export type SubscriptionRequest = Schemas["SubscribeIn"];
export type NewShare = Schemas["NewShare"];
export type ShareLink = Schemas["ShareLink"];
export type ShareRequest = Schemas["ShareIn"];
export type Note = Schemas["Note"];
export type NoteRequest = Schemas["NoteAddIn"];
export type KnownSide = Schemas["KnownSide"];
export type Sides = Schemas["Sides"];
export type Slower = Schemas["TriageSlower"];
export type UnsteadyTest = Schemas["UnsteadyTest"];
export type Overview = Schemas["Overview"];
export type OverviewSuite = Schemas["OverviewSuite"];
export type Slow = Schemas["Slow"];
export type SlowTest = Schemas["SlowTest"];
export type Trends = Schemas["Trends"];
export type TrendDay = Schemas["TrendDay"];
export type TrendGroup = Schemas["TrendGroup"];
export type Browsers = Schemas["Browsers"];
export type BrowserChange = Schemas["BrowserChange"];
export type BrowserRow = Schemas["BrowserRow"];
export type Stock = Schemas["Stock"];
export type StockOn = Schemas["StockOn"];
export type StockArchive = Schemas["StockArchive"];
export type Token = Schemas["Token"];
export type AuditEntry = Schemas["AuditEntry"];
export type Why = Schemas["Why"];
export type Lack = Schemas["FleetLack"];
export type Matrix = Schemas["ComboMatrix"];
export type Combination = Schemas["ComboCombination"];
export type PlannedMatrix = Schemas["PlannedMatrix"];
export type Device = Schemas["DeviceProfile"];
export type RunRequest = Schemas["RunRequest"];
export type Preview = Schemas["Preview"];
export type KnownSuite = Schemas["KnownSuite"];
export type Preset = Schemas["Preset"];
export type Secret = Schemas["Secret"];
export type Output = Schemas["Output"];
export type Relay = Schemas["Relay"];
export type Schedule = Schemas["Schedule"];
export type Occurrences = Schemas["Occurrences"];
export type Timeline = Schemas["Timeline"];
export type Bar = Schemas["Bar"];
export type Forecast = Schemas["ForecastAnswer"];
export type SessionSummary = Schemas["SessionSummary"];
export type Session = Schemas["Session"];
export type Snippets = Schemas["Snippets"];
export type ProjectSettings = Schemas["ProjectSettings"];
export type Rule = Schemas["RetainRule"];
export type Sweep = Schemas["Sweep"];
export type Storage = Schemas["Storage"];
export interface RunEvent {
  type: "run" | "wall" | "agents" | "sessions";
  run?: RunSummary;
  panes?: Pane[];
  cells?: (Cell & { pane: number; test: number })[];
  /** More has changed than an event holds: the run is to be read again. */
  whole?: boolean;
}

/** An error the service explained (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
  ) {
    super(detail);
  }
}

const prefix = "/api/v1";

async function call(method: string, path: string, body?: unknown): Promise<Response> {
  let answer: Response;
  try {
    answer = await fetch(prefix + path, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "The service does not answer. Is it running?");
  }
  if (answer.ok) return answer;
  const problem = (await answer.json().catch(() => ({}))) as { detail?: string };
  throw new Problem(answer.status, problem.detail ?? `The service answered with status ${answer.status}.`);
}

export async function get<T>(path: string): Promise<T> {
  return (await (await call("GET", path)).json()) as T;
}

export async function text(path: string): Promise<string> {
  return await (await call("GET", path)).text();
}

/** What an open session shows, once it is another picture than the one known; null when nothing changed for a while. */
export async function picture(
  session: string,
  after: number,
): Promise<{ image: Blob; number: number } | null> {
  const answer = await call("GET", `/sessions/${session}/picture?after=${after}`);
  return answer.status === 204
    ? null
    : { image: await answer.blob(), number: Number(answer.headers.get("Pane-Picture")) };
}

export async function post<T>(path: string, body?: unknown): Promise<T> {
  const answer = await call("POST", path, body ?? {});
  return (answer.status === 204 ? undefined : await answer.json()) as T;
}

export async function remove(path: string): Promise<void> {
  await call("DELETE", path);
}

/** Sends an archive of a browser, unless the service has it; tells how many bytes have gone. */
export async function sendArchive(file: File, tell: (done: number) => void): Promise<StockArchive> {
  if (!("subtle" in crypto))
    throw new Problem(
      0,
      "This page came without TLS, where a browser computes no SHA-256: use pane browsers stock.",
    );
  const digest = new Uint8Array(await crypto.subtle.digest("SHA-256", await file.arrayBuffer()));
  const sha256 = [...digest].map((b) => b.toString(16).padStart(2, "0")).join("");
  const path = `${prefix}/stock/archives/${sha256}`;
  const archive = { name: file.name, sha256, size: file.size };
  if ((await fetch(path, { method: "HEAD" }).catch(() => null))?.ok) return archive;
  await new Promise<void>((done, fail) => {
    const request = new XMLHttpRequest();
    request.open("PUT", path);
    request.upload.onprogress = (e) => {
      tell(e.loaded);
    };
    request.onerror = () => {
      fail(new Problem(0, "The service does not answer. Is it running?"));
    };
    request.onload = () => {
      if (request.status < 300) {
        done();
        return;
      }
      let detail = `The service answered with status ${request.status}.`;
      try {
        detail = (JSON.parse(request.responseText) as { detail?: string }).detail ?? detail;
      } catch {
        // the status says it
      }
      fail(new Problem(request.status, detail));
    };
    request.send(file);
  });
  return archive;
}

export const fileAddress = (attempt: string, name: string) =>
  `${prefix}/attempts/${encodeURIComponent(attempt)}/files/${encodeURIComponent(name)}`;
