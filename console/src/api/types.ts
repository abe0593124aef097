import type { components } from "./schema";

type Schemas = components["schemas"];

export type Bench = Schemas["Bench"];
export type Device = Schemas["Device"];
export type Ending = Schemas["Ending"];
export type Step = Schemas["Step"];
export type Prep = Schemas["Prep"];
export type Round = Schemas["Round"];
export type RoundGroup = Schemas["RoundGroup"];
export type Retirement = Schemas["Retirement"];
export type Why = Schemas["Why"];
export type Fact = Schemas["Fact"];
export type Cause = Schemas["Cause"];
export type Given = Schemas["Given"];
export type Denied = Schemas["Denied"];
export type Job = Schemas["Job"];
export type Session = Schemas["Session"];
export type HostTree = Schemas["HostTree"];
export type TreeRow = Schemas["TreeRow"];
export type Host = Schemas["Host"];
export type AuditLine = Schemas["AuditLine"];
export type Sheets = Schemas["Sheets"];
export type Tellable = Schemas["Tellable"];
export type Project = Schemas["Project"];
export type Tryout = Schemas["Tryout"];
export type DriverSet = Schemas["DriverSet"];
export type Line = { seq: number; at: string; app: string; level: string; text: string };
