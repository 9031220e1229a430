import { QueryClient } from "@tanstack/vue-query";
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Session = components["schemas"]["SessionView"];
export type Access = components["schemas"]["AccessView"];
export type AccessTotal = components["schemas"]["TotalView"];
export type AgainQuery = components["schemas"]["AgainQuery"];
export type Finding = components["schemas"]["FindingView"];
export type Coverage = components["schemas"]["CoverageView"];
export type LogEvent = components["schemas"]["EventView"];
export type Me = components["schemas"]["Me"];
export type Strips = components["schemas"]["Strips"];
export type RuleCard = components["schemas"]["RuleCard"];
export type PolicyRead = components["schemas"]["PolicyRead"];
export type Diagnostic = components["schemas"]["DiagnosticView"];
export type Effect = components["schemas"]["EffectView"];
export type Draft = components["schemas"]["DraftView"];
export type Version = components["schemas"]["VersionView"];
export type Reach = components["schemas"]["ReachView"];
export type Permission = components["schemas"]["PermissionView"];
export type Matrix = components["schemas"]["MatrixView"];
export type Review = components["schemas"]["ReviewView"];
export type Person = components["schemas"]["PersonView"];
export type PersonDetail = components["schemas"]["PersonDetail"];
export type PersonChange = components["schemas"]["PersonChange"];
export type Account = components["schemas"]["AccountView"];
export type Proposal = components["schemas"]["ProposalView"];
export type Invitation = components["schemas"]["InvitationView"];
export type Setting = components["schemas"]["SettingView"];
export type ServiceKey = components["schemas"]["ServiceKeyView"];
export type Machine = components["schemas"]["MachineView"];
export type MachineDetail = components["schemas"]["MachineDetail"];
export type MachineChange = components["schemas"]["MachineChange"];
export type MachineCheck = components["schemas"]["MachineCheckView"];
export type Check = components["schemas"]["CheckView"];
export type CheckLine = components["schemas"]["CheckLine"];
export type IssuedCode = components["schemas"]["IssuedCode"];
export type Credential = components["schemas"]["CredentialView"];
export type AccessRequest = components["schemas"]["RequestView"];
export type Pass = components["schemas"]["PassView"];
export type Now = components["schemas"]["Now"];
export type LiveLine = components["schemas"]["LiveLine"];
export type PeopleThere = components["schemas"]["PeopleThere"];
export type Visit = components["schemas"]["VisitView"];
export type VisitPass = components["schemas"]["VisitPass"];
export type ToVisited = components["schemas"]["ToVisited"];
export type ToViewer = components["schemas"]["ToViewer"];
export type Question = components["schemas"]["AuthenticatorQuestion"];
export type Problem = components["schemas"]["ProblemView"];
export type Frame = components["schemas"]["FrameView"];

export const api = createClient<paths>({ credentials: "same-origin" });

/** An error of the API: what is wrong and what to do. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    message: string,
    readonly diagnostics: Problem["diagnostics"] = [],
    /** Stable code, as the documentation of errors lists it. */
    readonly code = "",
  ) {
    super(message);
  }
}

/** What the API says of an error, where an answer was not read by the typed client. */
export async function failure(response: Response): Promise<ApiError> {
  const problem = (await response.json().catch(() => ({}))) as Partial<Problem>;
  const code = problem.type?.split("#")[1] ?? "";
  const detail = problem.detail ?? "The answer could not be read.";
  return new ApiError(response.status, problem.title ?? "The service failed", detail, [], code);
}

/** The data of an answer; throws what the API says of an error. */
export function unwrap<T>(answer: { data?: T; error?: unknown; response: Response }): T {
  if (answer.response.ok && answer.data !== undefined) return answer.data;
  if (answer.response.ok) return undefined as T;
  const problem = (answer.error ?? {}) as Partial<Problem>;
  throw new ApiError(
    answer.response.status,
    problem.title ?? "The service failed",
    problem.detail ?? "The answer could not be read.",
    problem.diagnostics ?? [],
    problem.type?.split("#")[1] ?? "",
  );
}

export const queryClient = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      // What the service refuses, it refuses again; what it cannot answer now, it may answer soon.
      retry: (count, error) => !(error instanceof ApiError && error.status < 500) && count < 2,
    },
  },
});
