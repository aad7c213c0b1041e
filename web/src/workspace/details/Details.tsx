import { useShallow } from "zustand/react/shallow";
import type { FC } from "react";
import type { Motion } from "~/api/client";
import {
  useChosenFrame,
  useChosenLayer,
  useChosenMotion,
  useChosenPerch,
  useChosenTreatment,
  useOpenShot,
} from "~/workspace/context";
import { CameraDetails } from "~/workspace/details/CameraDetails";
import { FinishDetails } from "~/workspace/details/FinishDetails";
import { FootageDetails } from "~/workspace/details/FootageDetails";
import { FormDetails, ObjectDetails } from "~/workspace/details/FormDetails";
import { FrameDetails } from "~/workspace/details/FrameDetails";
import { LayerDetails } from "~/workspace/details/LayerDetails";
import { DepthDetails } from "~/workspace/details/DepthDetails";
import { MatteDetails } from "~/workspace/details/MatteDetails";
import { PerchDetails } from "~/workspace/details/PerchDetails";
import { PlaneDetails } from "~/workspace/details/PlaneDetails";
import { PlateDetails } from "~/workspace/details/PlateDetails";
import { PlainMotion } from "~/workspace/details/MotionParts";
import { PointDetails } from "~/workspace/details/PointDetails";
import { useWorkspace } from "~/workspace/store";
import { AdvicePanel } from "~/workspace/viewer/AdvicePanel";

/** The chosen card's settings. */
export function Details() {
  const { record } = useOpenShot();
  const { chosen, adviceOpen } = useWorkspace(
    useShallow((w) => ({ chosen: w.chosen, adviceOpen: w.adviceOpen })),
  );
  const motion = useChosenMotion();
  const layer = useChosenLayer();
  const perch = useChosenPerch();
  const treatment = useChosenTreatment();
  const deliveryFrame = useChosenFrame();
  return (
    <section
      aria-label="Details"
      className="min-h-0 overflow-y-auto border-l border-line bg-sheet px-3.5 py-3"
    >
      {adviceOpen && record.document.footage ? (
        <AdvicePanel />
      ) : motion ? (
        <MotionDetails key={motion.id} motion={motion} />
      ) : perch ? (
        <PerchDetails key={perch.id} perch={perch} />
      ) : treatment ? (
        <PlateDetails key={treatment.id} treatment={treatment} />
      ) : layer ? (
        <LayerDetails key={layer.id} layer={layer} />
      ) : deliveryFrame ? (
        <FrameDetails key={deliveryFrame.id} frame={deliveryFrame} />
      ) : chosen.kind === "finish" && record.document.footage ? (
        <FinishDetails />
      ) : chosen.kind === "footage" && record.document.footage ? (
        <FootageDetails />
      ) : (
        <Nothing
          ready={record.document.footage !== null}
          measured={record.document.motions.some((m) => m.measurement)}
          plonked={record.document.stack.length > 0}
        />
      )}
    </section>
  );
}

/** The details of each kind of motion; one without an entry has a form made from its settings. */
const MOTIONS: Partial<Record<string, unknown>> = {
  points: PointDetails,
  plane: PlaneDetails,
  camera: CameraDetails,
  object: ObjectDetails,
  form: FormDetails,
  matte: MatteDetails,
  depth: DepthDetails,
};

function MotionDetails({ motion }: { motion: Motion }) {
  const Of = (MOTIONS[motion.kind] ?? PlainMotion) as FC<{ motion: Motion }>;
  return <Of motion={motion} />;
}

function Nothing({ ready, measured, plonked }: { ready: boolean; measured: boolean; plonked: boolean }) {
  const steps = [
    { done: ready, text: "Bring in a clip" },
    { done: measured, text: "Outline a surface or set a point, and measure it" },
    { done: plonked, text: "Plonk an element where it should stick" },
    { done: false, text: "Check it: held still, flick the ends, wipe" },
    { done: false, text: "Deliver" },
  ];
  const now = steps.findIndex((s) => !s.done);
  return (
    <>
      <h2 className="mb-1 text-[15px] font-bold">Nothing chosen</h2>
      <p className="mb-3 text-ink-2">Choose a card on the left to see its settings. A shot goes like this:</p>
      <ol className="flex flex-col gap-2">
        {steps.map((s, k) => (
          <li key={s.text} className={`flex gap-2 ${k === now ? "font-semibold text-tide" : "text-ink-2"}`}>
            <span className="num w-4 shrink-0 pt-px">{s.done ? "✓" : k + 1}</span>
            {s.text}
          </li>
        ))}
      </ol>
    </>
  );
}
