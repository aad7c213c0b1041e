import { Fragment } from "react";
import { useOpenShot } from "~/workspace/context";
import { Card, Hint, Section } from "~/workspace/runsheet/Card";
import { FollowMenu } from "~/workspace/runsheet/FollowMenu";
import { FrameCard, FrameMenu } from "~/workspace/runsheet/FrameCards";
import { MotionCard, Perches } from "~/workspace/runsheet/MotionCards";
import { PlateCard, TreatMenu } from "~/workspace/runsheet/PlateCards";
import { AddMenu, StackList } from "~/workspace/runsheet/StackList";
import { act, useWorkspace } from "~/workspace/store";
import { clipFrame } from "~/workspace/time";
import { clipUrl } from "~/workspace/viewer/frames";
import { fpsOf, rateText } from "~/workspace/viewer/rates";

/** The ordered list down the left: it is the shot. */
export function RunSheet() {
  const { record } = useOpenShot();
  const chosen = useWorkspace((s) => s.chosen);
  const shot = record.document;
  const footage = shot.footage;
  return (
    <nav
      aria-label="Run sheet"
      className="h-full overflow-y-auto border-r border-line bg-paper py-2 pr-2.5 pl-3"
    >
      <Section number={1} title="Footage" />
      {footage ? (
        <Card
          on={chosen.kind === "footage"}
          onChoose={() => act({ do: "choose", chosen: { kind: "footage" } })}
          picture={
            <img
              alt=""
              className="size-full object-cover"
              src={clipUrl(
                footage.asset,
                10,
                clipFrame(footage, Math.floor((footage.in_frame + footage.out_frame) / 2)),
              )}
            />
          }
          name={footage.name}
          line={
            <span className="num">
              {Math.min(footage.width, footage.height)}p · {rateText(fpsOf(footage))} ·{" "}
              {footage.out_frame - footage.in_frame + 1} fr
            </span>
          }
        />
      ) : (
        <Hint>Bring in a clip to begin: drop it on the dark well.</Hint>
      )}
      <Section number={2} title="Motion">
        <FollowMenu disabled={!footage} />
      </Section>
      {shot.motions.map((motion) => (
        <Fragment key={motion.id}>
          <MotionCard motion={motion} on={chosen.kind === "motion" && chosen.id === motion.id} />
          <Perches perches={shot.perches} on={motion.id} />
        </Fragment>
      ))}
      <Perches perches={shot.perches} on={null} />
      {footage && !shot.motions.length && (
        <Hint>Follow a flat surface or a small, clear detail, so that things can stick to it.</Hint>
      )}
      <Section number={3} title="Plate">
        <TreatMenu disabled={!footage} />
      </Section>
      {shot.plate.map((one) => (
        <PlateCard key={one.id} treatment={one} on={chosen.kind === "plate" && chosen.id === one.id} />
      ))}
      {footage && !shot.plate.length && <Hint>Steady the footage where its movement is in the way.</Hint>}
      <Section number={4} title="Stack" note="nearest first">
        <AddMenu disabled={!footage} />
      </Section>
      <StackList layers={shot.stack} />
      {footage && !shot.stack.length && <Hint>Plonk an element from the shelf into the picture.</Hint>}
      <Section number={5} title="Finish" />
      {footage && (
        <Card
          on={chosen.kind === "finish"}
          onChoose={() => act({ do: "choose", chosen: { kind: "finish" } })}
          picture={
            <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
              <rect width="42" height="28" fill="var(--tide-2)" />
              <path d="M6 22C14 22 14 7 21 7s8 11 15 9" fill="none" stroke="var(--tide)" strokeWidth="1.8" />
              <circle cx="21" cy="7" r="2.6" fill="var(--saffron-bar)" />
            </svg>
          }
          name="Finish"
          line={
            shot.finish.length
              ? shot.finish.map((l) => l.name).join(", ")
              : "Colour, glow, grain over everything"
          }
        />
      )}
      <Section number={6} title="Frames">
        <FrameMenu disabled={!footage} />
      </Section>
      {shot.frames.map((frame) => (
        <FrameCard key={frame.id} frame={frame} on={chosen.kind === "frame" && chosen.id === frame.id} />
      ))}
      {footage && !shot.frames.length && <Hint>Delivered whole. Cut it upright, square or wide.</Hint>}
    </nav>
  );
}
