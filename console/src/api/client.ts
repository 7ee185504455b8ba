// The typed client of the API. Types come from the service's OpenAPI document;
// a refusal arrives as a Problem, with what is wrong field by field.
import createClient, { type Middleware } from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Server = Schemas["Server"];
export type Share = Schemas["Share"];
export type Site = Schemas["Site"];
export type Leg = Schemas["Leg"];
export type Check = Schemas["Check"];
export type Namespace = Schemas["Namespace"];
export type Entry = Schemas["Entry"];
export type Location = Schemas["Location"];
export type Direction = Schemas["Direction"];
export type Directions = Schemas["Directions"];
export type Change = Schemas["Change"];
export type Session = Schemas["Session"];
export type User = Schemas["User"];
export type Credential = Schemas["Credential"];
export type GatewayLock = Schemas["GatewayLock"];
export type Run = Schemas["Run"];
export type Survey = Schemas["Survey"];
export type Front = Schemas["Front"];
export type FrontPlan = Schemas["FrontPlan"];
export type Finding = Schemas["Finding"];
export type Permissions = Schemas["Permissions"];
export type EffectiveRights = Schemas["EffectiveRights"];
export type FolderEntry = Schemas["FolderEntry"];
export type Comparison = Schemas["RightsComparison"];
export type Seen = Schemas["Seen"];
export type Application = Schemas["Application"];
export type Verification = Schemas["Verification"];
export type RightsChange = Schemas["RightsChange"];
export type SharePlan = Schemas["SharePlan"];
export type ShareNow = Schemas["ShareNow"];
export type Account = Schemas["Account"];
export type Migration = Schemas["Migration"];
export type CloudSetup = Schemas["CloudSetup"];
export type ReplicaSet = Schemas["ReplicaSet"];
export type Replica = Schemas["Replica"];
export type Lane = Schemas["Lane"];
export type ReplicaPlan = Schemas["ReplicaPlan"];
export type NewReplicaSet = Schemas["NewReplicaSet"];
export type AtticItem = Schemas["AtticItem"];
export type WaitingPath = Schemas["WaitingPath"];
export type ReplicaTrouble = Schemas["ReplicaTrouble"];
export type LaneSample = Schemas["LaneSample"];
export type EditLane = Schemas["EditLane"];
export type ReplicaVerification = Schemas["ReplicaVerification"];
export type VerifyFinding = Schemas["VerifyFinding"];
export type ReplicaProbe = Schemas["ReplicaProbe"];
export type Job = Schemas["Job"];
export type AccountMap = Schemas["AccountMap"];
export type Estimate = Schemas["Estimate"];
export type EstimatedVolume = Schemas["EstimatedVolume"];
export type Found = Schemas["Found"];
export type Policy = Schemas["Rules"];
export type ReplicaCreation = Schemas["ReplicaCreation"];

/** A refusal by the service, or its silence (status 0). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly remedy = "",
    readonly fields: Record<string, string> = {},
  ) {
    super(detail);
  }
}

let csrf = "";
export function setCsrf(value: string) {
  csrf = value;
}

const manners: Middleware = {
  onRequest({ request }) {
    if (csrf && request.method !== "GET") request.headers.set("Bspan-Csrf", csrf);
    return request;
  },
  async onResponse({ response }) {
    if (response.ok) return response;
    const body = (await response.json().catch(() => ({}))) as Partial<Schemas["Problem"]> & { errors?: { field: string; detail: string }[] };
    // Of one in a list, the list has the error as well, for forms that show no more than that.
    const errors = body.errors ?? [];
    const fields = Object.fromEntries([...errors.map((e) => [e.field.replace(/\[\d+\].*$/, ""), e.detail]), ...errors.map((e) => [e.field, e.detail])]);
    throw new Problem(response.status, body.detail ?? `The service answers ${response.status}.`, body.remedy, fields);
  },
  onError() {
    return new Problem(0, "The service does not answer.", "Check that it runs and that the network between is up; this page goes on by itself.");
  },
};

/** Whether an error may go away by itself: the service, or its database, does not answer. */
export const isAway = (error: unknown) => error instanceof Problem && (error.status === 0 || error.status === 503);

export const api = createClient<paths>({ baseUrl: "" });
api.use(manners);

export const etag = (version: number) => `"${version}"`;

/** Unwraps an answer; errors were thrown on the way. */
export async function got<T>(answer: Promise<{ data?: T }>): Promise<T> {
  return (await answer).data as T;
}

/** Reads every part of a list. */
export async function all<T>(part: (cursor?: string) => Promise<{ items: T[]; next?: string }>): Promise<T[]> {
  const items: T[] = [];
  let cursor: string | undefined;
  do {
    const page = await part(cursor);
    items.push(...page.items);
    cursor = page.next;
  } while (cursor);
  return items;
}
