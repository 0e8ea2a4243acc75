/** The data of the API: what its OpenAPI document describes, by short names. */

import type { components } from "./schema";

type Schemas = components["schemas"];

export type EntryState = Schemas["State"];

export const ENTRY_STATES: readonly EntryState[] = [
  "ready",
  "working",
  "worked",
  "filed",
  "repeat",
  "passed over",
  "held",
  "gone",
  "adopted",
];

export type Gate = Omit<Schemas["GateView"], "counts"> & {
  counts: Partial<Record<EntryState | "arriving", number>>;
};
export type Fetch = Schemas["FetchView"];
export type PlaceFolder = Schemas["PlaceFolder"];
export type OpenBatch = Schemas["OpenBatch"];
export type Verdict = Schemas["Verdict"];
export type DropFile = Schemas["FileView"];
export type DropFiles = Schemas["Files"];
export type Entry = Schemas["Entry"];
export type EntryPage = Schemas["Page"];
export type Change = Schemas["Change"];
export type Output = Schemas["Output"];
export type Account = Schemas["Account"];
export type LoadedRows = Schemas["LoadedRows"];
export type OutputAccount = Schemas["OutputAccount"];
export type OutputPart = Schemas["OutputPart"];
export type Bar = Schemas["Bar"];
export type SampleColumn = Schemas["SampleColumn"];
export type SampleTable = Schemas["SampleTable"];
export type Sample = Schemas["Sample"];
export type Batch = Schemas["Batch"];
export type EntryDetail = Schemas["EntryView"];
export type EntryAction = Schemas["EntryAction"];
export type Done = Schemas["Done"];
export type Adoption = Schemas["Adoption"];
export type Activity = Schemas["Activity"];
export type ActivitySpan = Schemas["ActivitySpan"];
export type PassReport = Schemas["PassReport"];
export type Rehearsed = Schemas["Rehearsed"];
export type ClearRule = Schemas["ClearView"];
export type Cleared = Schemas["Cleared"];
export type Removal = Schemas["Removal"];
export type Board = Schemas["Board"];
export type DueCell = Schemas["DueCell"];
export type DueState = Schemas["DueState"];
export type DueView = Schemas["DueView"];
export type Happening = Schemas["Happening"];
export type Matches = Schemas["Matches"];
export type HeldGroup = Schemas["HeldGroup"];
export type Excerpt = Schemas["Excerpt"];
export type Family = Schemas["Family"];
export type FamilyMember = Schemas["FamilyMember"];
export type Outputs = Schemas["Outputs"];
export type ConfigFile = Schemas["ConfigFile"];
export type ConfigFault = Schemas["ConfigFault"];
export type ConfigKey = Schemas["ConfigKey"];
export type ConfigChange = Schemas["ConfigChange"];
export type TriedConfig = Schemas["TriedConfig"];
export type SavedConfig = Schemas["SavedConfig"];
export type Hit = Schemas["Hit"];
export type HandedIn = Schemas["HandedInFile"];
export type ServiceInfo = Schemas["ServiceInfo"];
export type Role = Schemas["Role"];
export type Session = Schemas["Session"];
export type SessionView = Schemas["SessionView"];
export type User = Schemas["UserView"];
export type Token = Schemas["TokenView"];
export type MadeToken = Schemas["MadeToken"];
export type AuditLine = Schemas["AuditLine"];
export type AuditProof = Schemas["AuditProof"];

/** Which entries are asked for; an absent part does not filter. */
type Query = Schemas["Query"];
export type EntryQuery = { [Part in keyof Query]?: NonNullable<Query[Part]> };
export type EditedFile = Schemas["EditedFile"];
export type FolderView = Schemas["FolderView"];
export type GateDraft = Schemas["GateDraft"];
export type GateProposal = Schemas["GateProposal"];
