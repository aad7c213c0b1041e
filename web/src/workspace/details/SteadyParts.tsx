import { followable } from "~/workspace/kinds";
import { useState } from "react";
import { type Steady, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { Choice } from "~/ui/Choice";
import { complain } from "~/ui/Notices";
import { OnOff } from "~/ui/OnOff";
import { useMeasure } from "~/workspace/actions/jobs";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { act, useWorkspace } from "~/workspace/store";

export type SetValues = (label: string, values: Record<string, unknown>) => void;

/** The rolling shutter's share of a frame, judged from a measured plane where it matters. */
export function Readout({ steady, set }: { steady: Steady; set: SetValues }) {
  const { shotId, record } = useOpenShot();
  const [told, setTold] = useState("");
  const shot = record.document;
  const flat = shot.motions.some((m) => m.kind === "plane" && m.measurement);
  const needed =
    !steady.perspective ||
    steady.targets.some((t) => shot.motions.find((m) => m.id === t)?.kind === "points");
  if (!flat || !needed) return null;
  const judge = async () => {
    try {
      const found = await answered(
        api.GET("/api/shots/{shot_id}/readout", { params: { path: { shot_id: shotId } } }),
      );
      if (found.share === null) setTold("The planes move too calmly to tell.");
      else {
        setTold(`Judged from ${found.motion ?? ""}.`);
        set("Rolling shutter as judged", { readout: Math.round(100 * found.share) });
      }
    } catch (error) {
      complain(error instanceof Error ? error.message : String(error));
    }
  };
  return (
    <Row
      label="Its shutter"
      help="How long the sensor takes to read a frame, judged from a plane measured in perspective"
      wide
    >
      <span className="flex items-center gap-2">
        <button className="font-semibold text-tide" onClick={() => void judge()}>
          Judge it from a plane
        </button>
        <span role="status">{told}</span>
      </span>
    </Row>
  );
}

/** The movement is given back: the viewer shows the held picture to work on, or the finished one. */
export function WorkHeld() {
  const worked = useWorkspace((s) => s.worked);
  return (
    <Row label="Work held" help="Show the held picture to work on; off: as it will be delivered" wide>
      <span className="justify-self-start">
        <OnOff
          label="Work on the held picture"
          checked={worked}
          onChange={(on) => act({ do: "worked", on })}
        />
      </span>
    </Row>
  );
}

/** The motions held on to: one, or a second at another depth. */
export function HoldsOn({ steady, set }: { steady: Steady; set: SetValues }) {
  const { record } = useOpenShot();
  const frame = useWorkspace((s) => s.frame);
  const motions = record.document.motions;
  const names = (without: string | undefined): Record<string, string> => ({
    none: "Nothing",
    ...Object.fromEntries(
      followable(record.document)
        .filter((m) => m.id !== without)
        .map((m) => [m.id, m.name]),
    ),
  });
  const [first, second] = steady.targets;
  const measure = useMeasure();
  const waiting = motions.find((m) => steady.targets.includes(m.id) && !m.measurement);
  const measuring = useLive((s) =>
    Object.values(s.jobs).some((j) => j.motion === waiting?.id && ["queued", "running"].includes(j.state)),
  );
  const choose = (k: number, id: string) => {
    const next = [first, second];
    next[k] = id === "none" ? undefined : id;
    const targets = next.filter((t) => t !== undefined);
    set(targets.length ? "Hold on to something else" : "Hold on to nothing", { targets });
  };
  return (
    <Group title="Holds on to">
      <Row label="Motion" wide>
        <Choice
          label="Motion held on to"
          value={first ?? "none"}
          names={names(second)}
          onChange={(v) => choose(0, v)}
        />
      </Row>
      {first && motions.length > 1 && (
        <Row
          label="And"
          help="A second surface, nearer or further: both hold as well as one picture can"
          wide
        >
          <Choice
            label="Second motion held on to"
            value={second ?? "none"}
            names={names(first)}
            onChange={(v) => choose(1, v)}
          />
        </Row>
      )}
      {waiting && (
        <p className="my-1 flex items-center justify-between gap-2 rounded-md bg-paper px-2 py-1 text-xs text-ink-2">
          {measuring ? `${waiting.name} is being measured …` : `${waiting.name} is not measured yet.`}
          {!measuring && (
            <button
              className="font-semibold text-tide"
              onClick={() => void measure(waiting.id, "both", null)}
            >
              Measure
            </button>
          )}
        </p>
      )}
      {!first && (
        <p className="my-1 text-xs text-ink-2">
          Choose what should stand still: a plane holds all of it, a point only its own spot.
        </p>
      )}
      <Row label="As in frame" wide>
        <span className="flex items-center gap-3 text-xs">
          <button
            className="num text-tide underline"
            onClick={() => act({ do: "frame", frame: steady.reference_frame })}
          >
            {steady.reference_frame}
          </button>
          {frame !== steady.reference_frame && (
            <button
              className="font-semibold text-tide"
              onClick={() => set(`Hold it as in frame ${frame}`, { reference_frame: frame })}
            >
              Take this frame
            </button>
          )}
        </span>
      </Row>
    </Group>
  );
}
