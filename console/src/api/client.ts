import createClient from "openapi-fetch";
import type { components, paths } from "./schema.gen";
import { hear } from "./seen";
import { canAsk, signedInAgain } from "./signedOut";

type Schemas = components["schemas"];
export type Overview = Schemas["Overview"];
export type Need = Schemas["Need"];
export type PartState = Schemas["PartState"];
export type Diagnosis = Schemas["Diagnosis"];
export type Group = Schemas["Group"];
export type RoomReport = Schemas["RoomReport"];
export type FailureReport = Schemas["FailureReport"];
export type SavingsReport = Schemas["SavingsReport"];
export type Setting = Schemas["Setting"];
export type NotificationRule = Schemas["NotificationRule"];
export type NewNotificationRule = Schemas["NewNotificationRule"];
export type Message = Schemas["Message"];
export type MailSettings = Schemas["MailSettings"];
export type NewMailSettings = Schemas["NewMailSettings"];
export type Model = Schemas["Model"];
export type LicenceReport = Schemas["LicenceReport"];
export type DriverReport = Schemas["DriverReport"];
export type Check = Schemas["Check"];
export type NewCheck = Schemas["NewCheck"];
export type Surface = Schemas["SurfaceReport"];
export type Workstation = Schemas["Workstation"];
export type Version = Schemas["Version"];
export type AreaDifference = Schemas["AreaDifference"];
export type ImageFile = Schemas["ImageFile"];
export type FileDifference = Schemas["FileDifference"];
export type Area = Schemas["Area"];
export type Delivery = Schemas["Delivery"];
export type DeliveryCourse = Schemas["DeliveryCourse"];
export type Plan = Schemas["DeliveryPlan"];
export type Member = Schemas["Member"];
export type Receipt = Schemas["Receipt"];
export type DeliveryMoved = Schemas["DeliveryMoved"];
export type Errand = Schemas["Errand"];
export type Order = Schemas["Order"];
export type NewDelivery = Schemas["NewDelivery"];
export type KeptOrder = Schemas["KeptOrder"];
export type OrderRun = Schemas["OrderRun"];
export type RunPart = Schemas["RunPart"];
export type NetbootStatus = Schemas["NetbootStatus"];
export type NetbootLink = Schemas["NetbootLink"];
export type BootTrail = Schemas["BootTrail"];
export type Build = Schemas["Build"];
export type NewMedia = Schemas["NewMedia"];
export type BootEntry = Schemas["BootEntry"];
export type BootEntrySettings = Schemas["BootEntrySettings"];
export type BootChoice = Schemas["BootChoice"];
export type DriverPackage = Schemas["DriverPackage"];
export type DriverModel = Schemas["DriverModel"];
export type DriversAdded = Schemas["DriversAdded"];
export type SetAnswer = Schemas["Answer"];
export type Domain = Schemas["Domain"];
export type Line = Schemas["Line"];
export type Witness = Schemas["Witness"];
export type Watched = Schemas["Watched"];
export type Directory = Schemas["Directory"];
export type NewDirectory = Schemas["NewDirectory"];
export type Person = Schemas["Person"];
export type Grant = Schemas["Grant"];
export type Role = Schemas["Role"];
export type NewRole = Schemas["NewRole"];
export type Token = Schemas["Token"];
export type OpenSession = Schemas["OpenSession"];
export type Session = Schemas["Session"];
export type Outpost = Schemas["Outpost"];
export type NewOutpost = Schemas["NewOutpost"];
export type Placement = Schemas["Placement"];
export type NewPlacement = Schemas["NewPlacement"];
export type OutpostCode = Schemas["OutpostCode"];
export type Store = Schemas["Store"];
export type NewStore = Schemas["NewStore"];
export type Backup = Schemas["Backup"];
export type BackupSchedule = Schemas["BackupSchedule"];
export type BackupsDue = Schemas["BackupsDue"];
export type Standby = Schemas["Standby"];
export type Payload = Schemas["Payload"];
export type NewDomain = Schemas["NewDomain"];
export type ResolvedAnswer = Schemas["ResolvedAnswer"];
export type AnswersChange = Schemas["AnswersChange"];
export type Named = Schemas["Named"];
export type Imported = Schemas["Imported"];
export type ImportedRow = Schemas["ImportedRow"];
export type DriverSet = Schemas["DriverSet"];
export type DriverChoice = Schemas["DriverChoice"];
export type Coverage = Schemas["Coverage"];
export type ModelCover = Schemas["ModelCover"];
export type DeviceCover = Schemas["DeviceCover"];
export type Cover = Schemas["Cover"];

export const client = createClient<paths>({ baseUrl: "/api/v1" });

/** Requests that are under way, to be sent again if the session has ended meanwhile. */
const sent = new Map<string, Request>();

client.use({
  onRequest: ({ request, id }) => {
    sent.set(id, request.clone());
  },
  onResponse: async ({ response, schemaPath, id }) => {
    const again = sent.get(id)!;
    sent.delete(id);
    hear(response);
    if (response.status !== 401 || schemaPath === "/session" || !canAsk()) return undefined; // who is not signed in at all is asked by Gate
    await signedInAgain();
    return fetch(again);
  },
  onError: ({ id }) => {
    sent.delete(id);
  },
});

/** What the service says is wrong, in its own words. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    message: string,
    readonly type?: string, // of the problem (RFC 9457)
  ) {
    super(message);
  }
}

interface Answer<T> {
  data?: T;
  error?: Schemas["ErrorModel"];
  response: Response;
}

/** Unwraps an answer; problems are thrown. */
export async function ask<T>(answer: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await answer;
  if (!response.ok) {
    const more = error?.errors?.filter((e) => !e.location).map((e) => e.message).join("; "); // what is wrong with a field is in the detail
    const detail = error?.detail ?? error?.title ?? `the service answered ${response.status}`;
    throw new Problem(response.status, more ? `${detail}: ${more}` : detail, error?.type);
  }
  return data as T;
}
