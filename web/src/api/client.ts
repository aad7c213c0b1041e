import type { components } from "~/api/schema";

type Schemas = components["schemas"];
export type SetLight = Schemas["LightOut"];
export type Project = Schemas["ProjectOut"];
export type Asset = Schemas["AssetOut"];
export type ShotBrief = Schemas["ShotBrief"];
export type ShotRecord = Schemas["ShotOut"];
export type Shot = Schemas["Shot"];
export type PointMotion = Schemas["PointMotion"];
export type PlaneMotion = Schemas["PlaneMotion"];
export type CameraMotion = Schemas["CameraMotion"];
export type ObjectMotion = Schemas["ObjectMotion"];
export type FormMotion = Schemas["FormMotion"];
/** Motions that look at the picture by themselves and may be told where not to look. */
export type LookingMotion = CameraMotion | FormMotion;
/** Motions that solve a room. */
export type RoomMotion = CameraMotion | ObjectMotion | FormMotion;
/** What a thing that was picked covers, frame by frame. */
export type MatteMotion = Schemas["MatteMotion"];
/** How far away everything is that a clip of a solved camera shows. */
export type DepthMotion = Schemas["DepthMotion"];
export type Motion = PointMotion | PlaneMotion | RoomMotion | MatteMotion | DepthMotion;
export type Tug = Schemas["Tug"];
export type FormFit = Schemas["FitOut"];
export type Spot = Schemas["Spot"];
/** What a click on the picture meets in a room. */
export type Landing = Schemas["LandingOut"];
export type CameraSolve = Schemas["CameraOut"];
export type RoomDetail = Schemas["RoomDetailOut"];
export type TrackPoint = Schemas["TrackPoint"];
export type Region = Schemas["Region"];
export type OutlinePoint = Schemas["OutlinePoint"];
export type PlaneStake = Schemas["PlaneStake"];
export type Perch = Schemas["Perch"];
export type StillLayer = Schemas["StillLayer"];
export type PinLayer = Schemas["PinLayer"];
export type BeamLayer = Schemas["BeamLayer"];
export type GeneratedLayer = Schemas["GeneratedLayer"];
export type Pose = Schemas["Pose"];
export type MeshLayer = Schemas["MeshLayer"];
export type BreakingLayer = Schemas["BreakingLayer"];
export type ReliefLayer = Schemas["ReliefLayer"];
/** A rectangle of a floor or wall that was filmed, and that is worked on. */
export type WorkedLayer = BreakingLayer | ReliefLayer;
/** What is filmed in 3D, lit by a sun and a sky. */
export type FilmedLayer = MeshLayer | WorkedLayer;
export type ModelInfo = Schemas["ModelOut"];
export type FormLayer = Schemas["FormLayer"];
export type LampLayer = Schemas["LampLayer"];
export type DomeLayer = Schemas["DomeLayer"];
/** Layers that stand on a spot of a room. */
export type StandingLayer = FilmedLayer | FormLayer | LampLayer;
export type FillLayer = Schemas["FillLayer"];
export type WashLayer = Schemas["WashLayer"];
export type ParcelLayer = Schemas["ParcelLayer"];
/** The shot's own footage once more, in front of what lies under it. */
export type PlateLayer = Schemas["PlateLayer"];
/** Layers whose picture can be cut by a key. */
export type KeyedLayer = StillLayer | PinLayer | PlateLayer;
export type Parcel = Schemas["Parcel"];
/** Layers with a place of their own that may follow something. */
export type PlacedLayer = StillLayer | GeneratedLayer | ParcelLayer;
export type Key = Schemas["Key"];
export type Keyed = Schemas["Keyed"];
export type Wobble = Schemas["Wobble"];
export type CutStroke = Schemas["CutStroke"];
export type CurvePoint = Schemas["CurvePoint"];
export type Steady = Schemas["Steady"];
export type Handheld = Schemas["Handheld"];
export type Mend = Schemas["Mend"];
export type Clean = Schemas["Clean"];
export type CleanFrame = Schemas["CleanFrame"];
export type Stroke = Schemas["Stroke"];
export type Degrain = Schemas["Degrain"];
export type Treatment = Steady | Handheld | Mend | Clean | Degrain;
export type OutlineMask = Schemas["OutlineMask"];
export type GradedMask = Schemas["GradedMask"];
export type Look = Schemas["Shot"]["finish"][number];
export type PickedMask = Schemas["PickedMask"];
export type Mask = OutlineMask | GradedMask | PickedMask;
export type ViewPath = Schemas["ViewOut"];
export type Alike = Schemas["AlikeOut"];
export type Anchor = Schemas["Anchor"];
export type Layer =
  | StillLayer
  | PinLayer
  | BeamLayer
  | GeneratedLayer
  | StandingLayer
  | DomeLayer
  | FillLayer
  | WashLayer
  | ParcelLayer
  | PlateLayer;
export type Follow = Schemas["Follow"];
export type Num = StillLayer["x"];
export type Slip = Schemas["SlipOut"];
export type Advice = Schemas["AdviceOut"];
export type Suggestion = Schemas["SuggestionOut"];
export type Mover = Schemas["MoverOut"];
export type Job = Schemas["JobOut"];
export type Measurement = Schemas["MeasurementOut"];
export type Delivery = Schemas["DeliveryOut"];
/** The part of the finished picture that is delivered. */
export type DeliveryFrame = Schemas["DeliveryFrame"];
export type Output = Shot["delivery"]["outputs"][number];
export type OutputFile = Omit<Schemas["OutputOut"], "output"> & { output: Output };
export type Boxes = Schemas["BoxesOut"];
export type SavedFiles = Omit<Schemas["SavedOut"], "outputs"> & { outputs: Output[] };
export type Detail = Schemas["DetailOut"];
export type Kind = Omit<Schemas["KindOut"], "schema"> & { schema: JsonSchema };

export type KindGroup = Schemas["GroupOut"];
export type SpacesAnswer = Schemas["SpacesOut"];
export type Marker = Schemas["Marker"];
export type Loudness = Schemas["LoudnessOut"];
export type Step = Schemas["StepOut"];
export type Operation = Schemas["OperationIn"]["operation"];
export type LaidSound = Shot["sounds"][number];
export type Apart = Schemas["ApartOut"];
export type TimeChange = Schemas["TimeIn"]["change"];
export type OperationAnswer = Schemas["OperationOut"];

export interface FieldHints {
  control: "number" | "plain" | "choice" | "switch" | "colour" | "curve" | "asset";
  label: string;
  help: string;
  group: string;
  default: number | string | boolean;
  low?: number;
  high?: number;
  step?: number;
  unit?: string;
  soft?: [number, number];
  names?: Record<string, string>;
  when?: Record<string, unknown[]>;
}

export interface JsonSchema {
  properties?: Record<string, { "x-plonket"?: FieldHints }>;
  $defs?: Record<string, JsonSchema>;
}

export interface PatchStep {
  op: "add" | "remove" | "replace" | "test" | "move";
  path: string;
  value?: unknown;
  from?: string;
}

/** An answer that is not what was asked for; `message` is meant for the creator. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly code: string,
    message: string,
    readonly details: Record<string, unknown>,
  ) {
    super(message);
  }
}

export const csrf = (): string => /(?:^|; )plonket_csrf=([^;]+)/.exec(document.cookie)?.[1] ?? "";

export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let answer: Response;
  try {
    answer = await fetch(`/api${path}`, {
      method,
      headers: {
        "X-CSRFToken": csrf(),
        ...(body === undefined ? {} : { "Content-Type": "application/json" }),
      },
      body: body === undefined ? null : JSON.stringify(body),
    });
  } catch {
    throw new ApiError(
      0,
      "network",
      "Plonket does not answer. Is bin/plonket start still running? Nothing is lost; try again.",
      {},
    );
  }
  if (answer.status === 204) return undefined as T;
  const data: unknown = await answer.json().catch(() => null);
  if (!answer.ok) {
    const problem = (data ?? {}) as { code?: string; message?: string; details?: Record<string, unknown> };
    throw new ApiError(
      answer.status,
      problem.code ?? "unknown",
      problem.message ?? `The server answered with ${answer.status}. Try again.`,
      problem.details ?? {},
    );
  }
  return data as T;
}

/** A picture, with a header of the answer that says something of it. */
export async function getPicture(path: string, header: string): Promise<{ url: string; says: string }> {
  const answer = await fetch(`/api${path}`);
  if (!answer.ok) {
    const problem = (await answer.json().catch(() => ({}))) as { code?: string; message?: string };
    throw new ApiError(
      answer.status,
      problem.code ?? "unknown",
      problem.message ?? `The server answered with ${answer.status}. Try again.`,
      {},
    );
  }
  return { url: URL.createObjectURL(await answer.blob()), says: answer.headers.get(header) ?? "" };
}

export const get = <T>(path: string) => call<T>("GET", path);
export const post = <T>(path: string, body: unknown = {}) => call<T>("POST", path, body);
export const remove = (path: string) => call<undefined>("DELETE", path);
