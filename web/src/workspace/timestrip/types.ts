import type { Shot } from "~/api/client";

export type Footage = NonNullable<Shot["footage"]>;
export type { Layer, Motion } from "~/api/client";
