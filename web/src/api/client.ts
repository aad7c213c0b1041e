import createClient from "openapi-fetch";
import type { components, paths } from "~/api/schema";

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
/** How something is taken off a picture; `Key` is one of a moving number. */
export type PictureKey = NonNullable<KeyedLayer["key"]>;
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
export type FileFacts = Schemas["FileFactsOut"];
export type Timing = Schemas["TimingIO"];
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
/** What a shot's footage is made from. */
export type FootageFrom = Schemas["SourceIn"]["footage"];
export type TimeChange = Schemas["TimeIn"]["change"];
export type OperationAnswer = Schemas["OperationOut"];

export interface FieldHints {
  control: "number" | "plain" | "choice" | "switch" | "colour" | "curve" | "asset" | "thing";
  label: string;
  help: string;
  group: string;
  default: number | string | boolean;
  low?: number;
  high?: number;
  step?: number;
  unit?: string;
  soft?: [number, number];
  /** What stands in place of 0. */
  nought?: string;
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

/** The server's end points, by the addresses and types of its own description. */
export const api = createClient<paths>({
  baseUrl: globalThis.location?.origin ?? "http://localhost",
  // Looked up at each call, so that a test's own stands in for it.
  fetch: (request) => globalThis.fetch(request),
});
api.use({
  onRequest({ request }) {
    request.headers.set("X-CSRFToken", csrf());
  },
});

/** What a call to an end point becomes. */
export type Asked<T> = Promise<{ data?: T; error?: unknown; response: Response }>;

/** The answer of an end point; whatever is none becomes an `ApiError`. */
export async function answered<T>(asked: Asked<T>): Promise<T> {
  let got: Awaited<Asked<T>>;
  try {
    got = await asked;
  } catch {
    throw new ApiError(
      0,
      "network",
      "Plonket does not answer. Is bin/plonket start still running? Nothing is lost; try again.",
      {},
    );
  }
  if (!got.response.ok) throw problemOf(got.response, got.error);
  return got.data as T;
}

function problemOf(response: Response, told: unknown): ApiError {
  const problem = (told && typeof told === "object" ? told : {}) as {
    code?: string;
    message?: string;
    details?: Record<string, unknown>;
  };
  return new ApiError(
    response.status,
    problem.code ?? "unknown",
    problem.message ?? `The server answered with ${response.status}. Try again.`,
    problem.details ?? {},
  );
}

/** A picture, with a header of the answer that says something of it. */
export async function getPicture(path: string, header: string): Promise<{ url: string; says: string }> {
  const answer = await fetch(`/api${path}`);
  if (!answer.ok) throw problemOf(answer, await answer.json().catch(() => null));
  return { url: URL.createObjectURL(await answer.blob()), says: answer.headers.get(header) ?? "" };
}
