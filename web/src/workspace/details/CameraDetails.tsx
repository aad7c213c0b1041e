import { useShallow } from "zustand/react/shallow";
import { lazy, Suspense, useState } from "react";
import type { CameraMotion, CameraSolve, RoomMotion } from "~/api/client";
import { useKinds, useMeasurement } from "~/api/queries";
import { Button } from "~/ui/Button";
import { NumberBox } from "~/ui/NumberBox";
import { OnOff } from "~/ui/OnOff";
import {
  useAddRoomPerch,
  useAddSurface,
  useBoxRound,
  useSetAside,
  useStraighten,
  worstOf,
} from "~/workspace/actions/camera";
import { length, minus } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { ByHand } from "~/workspace/details/ByHand";
import { Group, Row, Title } from "~/workspace/details/Group";
import { MeasureRow, MotionFoot, UsedBy } from "~/workspace/details/MotionParts";
import { NotLookedAt } from "~/workspace/details/RegionList";
import { SchemaForm } from "~/workspace/details/SchemaForm";
import { setOnMotion } from "~/workspace/patches";
import { useCameras } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { lengthText } from "~/workspace/viewer/RoomMarks";

/** Its own file: three.js is fetched only when a room is looked at. */
const RoomViews = lazy(() =>
  import("~/workspace/details/RoomViews").then((file) => ({ default: file.RoomViews })),
);

export function CameraDetails({ motion }: { motion: CameraMotion }) {
  const { edits } = useOpenShot();
  const { data: kinds } = useKinds("motion");
  const { data: measured } = useMeasurement(motion.measurement);
  const frame = useWorkspace((s) => s.frame);
  const schema = kinds?.find((k) => k.kind === "camera")?.schema;
  const solve = motion.measurement ? measured?.camera : undefined;
  const set = (label: string, values: Partial<CameraMotion> | Record<string, unknown>) =>
    void edits.edit(label, (latest) => setOnMotion(latest, motion.id, values));
  return (
    <>
      <Title
        title={motion.name}
        sub={solve ? <Said solve={solve} frame={frame} /> : "Camera motion: the set is solved in 3D"}
        onRename={(name) => set(`Rename to ${name}`, { name })}
      />
      <MeasureRow motion={motion} ready />
      {!solve && (
        <p className="mb-2 text-xs text-ink-2">
          Details of the set are found and followed by themselves. Walk sideways rather than only turn; mask
          what moves by itself if it fills much of the picture.
        </p>
      )}
      {solve?.warnings.map((w) => (
        <p
          key={w}
          role="note"
          className="mb-2 rounded-md border border-brick/40 bg-brick-2 px-2 py-1.5 text-xs leading-snug"
        >
          {w}
        </p>
      ))}
      {solve && <Judge motion={motion} solve={solve} />}
      {solve?.kind === "full" && <RoomGroup motion={motion} solve={solve} />}
      {solve && <ByHand motion={motion} solve={solve} set={set} />}
      {schema && (
        <SchemaForm
          schema={schema}
          groups={["Lens"]}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <NotLookedAt motion={motion} />
      <Strong motion={motion} onChange={(label, strong) => set(label, { strong })} />
      {schema && (
        <SchemaForm
          schema={schema}
          groups={["Details"]}
          values={motion as unknown as Record<string, unknown>}
          onChange={(field, value, label) => set(`${label} of ${motion.name}`, { [field]: value })}
        />
      )}
      <UsedBy motion={motion} />
      <MotionFoot motion={motion} />
    </>
  );
}

function Said({ solve, frame }: { solve: CameraSolve; frame: number }) {
  const here = solve.error_px[frame] ?? 0;
  return (
    <>
      {solve.locked ? "Stands still" : solve.kind === "full" ? "Solved in 3D" : "Only turns"} · off by{" "}
      <span className="num">{solve.mean_error_px.toFixed(2)}</span> px, here{" "}
      <span className="num">{here.toFixed(2)}</span>
      {!solve.locked && (
        <>
          {" "}
          · lens <span className="num">{solve.equivalent_mm.toFixed(1)}</span> mm
        </>
      )}
    </>
  );
}

function Judge({ motion, solve }: { motion: CameraMotion; solve: CameraSolve }) {
  const { room, picked } = useWorkspace(useShallow((w) => ({ room: w.room, picked: w.picked })));
  const aside = useSetAside();
  const kept = solve.details.filter((d) => d.kept).length;
  const toggle = (key: keyof typeof room, label: string) => (
    <Row label={label}>
      <OnOff label={label} checked={room[key]} onChange={(on) => act({ do: "room", show: { [key]: on } })} />
    </Row>
  );
  return (
    <Group title="How well it fits">
      <p className="mb-1 text-xs text-ink-2">
        <span className="num">{kept}</span> of <span className="num">{solve.details.length}</span> details
        belong to the room{motion.set_aside.length > 0 && <>, {motion.set_aside.length} set aside by hand</>}.
      </p>
      {toggle("details", "Marks")}
      {solve.kind === "full" && toggle("ground", "Ground grid")}
      {solve.kind === "full" && toggle("boxes", "Test boxes")}
      <div className="mt-1.5 flex flex-wrap gap-1.5">
        <Button
          title="Take out the tenth that fits worst, and measure again with the details that are followed already"
          onClick={() => void aside(motion, worstOf(solve.details), "Set the worst details aside")}
        >
          Set aside the worst
        </Button>
        {picked.length > 0 && (
          <Button onClick={() => void aside(motion, picked, `Set ${picked.length} details aside`)}>
            Set aside picked
          </Button>
        )}
        {motion.set_aside.length > 0 && (
          <Button onClick={() => void aside(motion, null, "Bring all details back")}>Bring all back</Button>
        )}
      </div>
    </Group>
  );
}

/** Picked details put a room straight. */
export function RoomGroup({ motion, solve }: { motion: RoomMotion; solve: CameraSolve }) {
  const { picked, room } = useWorkspace(useShallow((w) => ({ picked: w.picked, room: w.room })));
  const camera = useCameras().get(motion.id);
  const straighten = useStraighten();
  const addPerch = useAddRoomPerch();
  const addSurface = useAddSurface();
  const boxRound = useBoxRound();
  const [metres, setMetres] = useState(1);
  const chosen = picked.flatMap((id) => solve.details.filter((d) => d.id === id));
  const places = camera ? chosen.map((d) => camera.inRoom(d.place)) : [];
  const apart = places.length === 2 ? length(minus(places[1]!, places[0]!)) : null;
  const go = (does: Parameters<typeof straighten>[1], amount: number | null = null) =>
    void straighten(motion.id, does, picked, amount).then(
      (done) => done && act({ do: "room", show: { ground: true } }),
    );
  return (
    <Group
      title="Room"
      side={
        <button
          className="font-semibold text-tide"
          aria-pressed={room.views}
          onClick={() => act({ do: "room", show: { views: !room.views } })}
        >
          {room.views ? "Hide views" : "Top and side"}
        </button>
      }
    >
      {room.views && camera && (
        <Suspense fallback={<p className="text-xs text-ink-2">Drawing the room …</p>}>
          <RoomViews motion={motion.id} camera={camera} solve={solve} />
        </Suspense>
      )}
      <p className="mt-1 mb-1 text-xs text-ink-2">
        {picked.length === 0
          ? "Pick details in the picture, with Shift several, or all in a box drawn with Shift: three or more for the ground or a box, two for a direction or a distance, one for the origin."
          : `${picked.length} picked${apart === null ? "" : `, ${lengthText(apart)} apart`}.`}
      </p>
      <div className="flex flex-wrap gap-1.5">
        <Button disabled={picked.length < 3} onClick={() => go("ground")}>
          Ground through these
        </Button>
        <Button disabled={picked.length !== 1} onClick={() => go("origin")}>
          Origin here
        </Button>
        <Button disabled={picked.length !== 2} onClick={() => go("axis")}>
          x along these
        </Button>
        <Button
          disabled={picked.length < 3}
          title="A perch that lies on the flat surface through them, with a grid"
          onClick={() => void addSurface(motion.id, picked)}
        >
          Surface through these
        </Button>
        <Button
          disabled={picked.length < 3}
          title="What is really there, as a box on the ground round them: it hides models, takes their shadows, and things stand on it"
          onClick={() => void boxRound(motion.id, picked)}
        >
          Box round these
        </Button>
        <Button
          disabled={!camera || !picked.length}
          onClick={() => camera && void addPerch(motion, camera, places, "upright")}
        >
          Perch here
        </Button>
        <Button onClick={() => go("suggest")} title="Find the ground and upright by itself">
          Find the ground
        </Button>
      </div>
      {picked.length === 2 && (
        <Row label="Truly apart">
          <span className="flex items-center gap-1.5">
            <NumberBox
              label="Truly apart"
              value={metres}
              low={0.001}
              high={10000}
              step={0.01}
              unit="m"
              onPreview={() => undefined}
              onCommit={setMetres}
            />
            <Button onClick={() => go("scale", metres)}>Set</Button>
          </span>
        </Row>
      )}
      <div className="mt-1.5 flex flex-wrap items-center gap-1.5 text-xs text-ink-2">
        Turn
        <Button aria-label="Turn the room 5 degrees left" onClick={() => go("turn", 5)}>
          5° left
        </Button>
        <Button aria-label="Turn the room 5 degrees right" onClick={() => go("turn", -5)}>
          5° right
        </Button>
        Ground
        <Button aria-label="Raise the ground by a centimetre" onClick={() => go("raise", 0.01)}>
          1 cm up
        </Button>
        <Button aria-label="Lower the ground by a centimetre" onClick={() => go("raise", -0.01)}>
          1 cm down
        </Button>
      </div>
    </Group>
  );
}

function Strong({
  motion,
  onChange,
}: {
  motion: CameraMotion;
  onChange: (label: string, strong: string[]) => void;
}) {
  const { record } = useOpenShot();
  const points = record.document.motions.filter((m) => m.kind === "points" && m.measurement);
  if (!points.length) return null;
  return (
    <Group title="Counts on">
      {points.map((p) => (
        <Row key={p.id} label={p.name} help="Its points stand still in the set and count more than others">
          <OnOff
            label={`Count on ${p.name}`}
            checked={motion.strong.includes(p.id)}
            onChange={(on) =>
              onChange(
                on ? `Count on ${p.name}` : `Do not count on ${p.name}`,
                on ? [...motion.strong, p.id] : motion.strong.filter((s) => s !== p.id),
              )
            }
          />
        </Row>
      ))}
    </Group>
  );
}
