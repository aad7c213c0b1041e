import { useShallow } from "zustand/react/shallow";
import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import * as THREE from "three";
import type { CameraSolve, Perch, Spot } from "~/api/client";
import { dragFrom } from "~/ui/drag";
import { OnOff } from "~/ui/OnOff";
import type { RoomCamera, V3 } from "~/workspace/camera";
import { useOpenShot } from "~/workspace/context";
import { valueAt, withValue } from "~/workspace/geometry";
import { has } from "~/workspace/kinds";
import { setOnPerch } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { trustOf } from "~/workspace/viewer/RoomMarks";

const WIDTH = 252;
const HEIGHT = 150;
type Side = "top" | "side";

/** The camera's path and the points of the room from above and from the side, beside the picture. */
export function RoomViews({ motion, ...room }: { motion: string; camera: RoomCamera; solve: CameraSolve }) {
  const [wanted, setWanted] = useState(true);
  const cloud = useCloud(motion);
  return (
    <div className="flex flex-col gap-1.5">
      <RoomView {...room} motion={motion} cloud={wanted ? cloud : null} side="top" />
      <RoomView {...room} motion={motion} cloud={wanted ? cloud : null} side="side" />
      {cloud && (
        <div className="flex items-center justify-between text-xs text-ink-2">
          What was filmed, by its depth
          <OnOff label="What was filmed, by its depth" checked={wanted} onChange={setWanted} />
        </div>
      )}
    </div>
  );
}

/** Places of what was filmed, x y z after each other, and their colours, 0 to 255. */
interface Cloud {
  places: Float32Array;
  colours: Uint8Array;
}

/** What was filmed as points of the room, where depth was measured by this camera. */
function useCloud(camera: string): Cloud | null {
  const { record, shotId } = useOpenShot();
  const motions = record.document.motions;
  const depth = motions.find((m) => has("motion", m, "depth") && "camera" in m && m.camera === camera);
  const solved = motions.find((m) => m.id === camera);
  const { data } = useQuery({
    // What it is made of: another room, camera or depth is another cloud.
    queryKey: ["cloud", shotId, JSON.stringify([depth, solved])],
    queryFn: async () => {
      const answer = await fetch(`/api/shots/${shotId}/motions/${depth!.id}/cloud`);
      if (!answer.ok) throw new Error(answer.statusText);
      const data = await answer.arrayBuffer();
      const count = new DataView(data).getUint32(0, true);
      return {
        places: new Float32Array(data, 4, 3 * count),
        colours: new Uint8Array(data, 4 + 12 * count, 3 * count),
      };
    },
    enabled: Boolean(depth?.measurement),
    staleTime: Infinity,
    placeholderData: (before) => before,
  });
  return depth?.measurement && data?.places.length ? data : null;
}

const colourOf = (name: string) =>
  new THREE.Color(getComputedStyle(document.documentElement).getPropertyValue(name).trim() || "#888");

/** One orthographic view, drawn when something changes; the wheel comes closer. */
function RoomView({
  motion,
  camera,
  solve,
  cloud,
  side,
}: {
  motion: string;
  camera: RoomCamera;
  solve: CameraSolve;
  cloud: Cloud | null;
  side: Side;
}) {
  const canvas = useRef<HTMLCanvasElement>(null);
  const drawn = useRef<Drawn | null>(null);
  // Grips lie over the canvas: they are drawn again when its view changes.
  const [view, setView] = useState<{ eye: THREE.OrthographicCamera } | null>(null);
  const frame = useWorkspace((s) => s.frame);
  const picked = useWorkspace((s) => s.picked);

  useEffect(() => {
    const made = build(canvas.current!, camera, solve, cloud, side);
    drawn.current = made;
    setView({ eye: made.eye });
    const onWheel = (e: WheelEvent) => {
      e.preventDefault();
      made.eye.zoom = Math.min(12, Math.max(0.4, made.eye.zoom * Math.exp(-e.deltaY * 0.0016)));
      made.eye.updateProjectionMatrix();
      made.draw();
      setView({ eye: made.eye });
    };
    const element = canvas.current!;
    element.addEventListener("wheel", onWheel, { passive: false });
    return () => {
      element.removeEventListener("wheel", onWheel);
      made.dispose();
      drawn.current = null;
      setView(null);
    };
  }, [camera, solve, cloud, side]);

  useEffect(() => {
    drawn.current?.mark(frame, picked);
  }, [frame, picked, camera, solve, cloud]);

  return (
    <figure className="relative overflow-hidden rounded-md border border-line bg-well">
      <canvas
        ref={canvas}
        width={WIDTH}
        height={HEIGHT}
        role="img"
        aria-label={side === "top" ? "The room from above" : "The room from the side"}
        data-room-view={side}
        data-cloud={cloud ? cloud.places.length / 3 : 0}
        className="block w-full"
      />
      {view && <SpotGrips motion={motion} eye={view.eye} side={side} />}
      <figcaption className="pointer-events-none absolute top-1 left-1.5 text-[11px] text-on-well-2">
        {side === "top" ? "From above" : "From the side"}
      </figcaption>
    </figure>
  );
}

/** The perches that stand in the room: drag one over the ground from above, up and down from the side. */
function SpotGrips({ motion, eye, side }: { motion: string; eye: THREE.OrthographicCamera; side: Side }) {
  const { record, edits } = useOpenShot();
  const { frame, chosen } = useWorkspace(useShallow((w) => ({ frame: w.frame, chosen: w.chosen })));
  const [held, setHeld] = useState<{ id: string; spot: Spot } | null>(null);
  const standing = record.document.perches.filter((p) => p.spot && p.follow.target === motion);
  const grab = (e: React.PointerEvent<HTMLElement>, perch: Perch) => {
    const width = e.currentTarget.parentElement!.clientWidth;
    const metres = (eye.right - eye.left) / eye.zoom / width;
    const start = { x: e.clientX, y: e.clientY };
    const from = perch.spot!;
    let moved: Spot | null = null;
    act({ do: "choose", chosen: { kind: "perch", id: perch.id } });
    dragFrom(
      e,
      (m) => {
        const [dx, dy] = [(m.clientX - start.x) * metres, (m.clientY - start.y) * metres];
        if (!moved && Math.hypot(m.clientX - start.x, m.clientY - start.y) < 3) return;
        const put = (v: Spot["x"], by: number) =>
          withValue(v, frame, Math.round((valueAt(v, frame) + by) * 1e5) / 1e5);
        moved =
          side === "top"
            ? { ...from, x: put(from.x, dx), z: put(from.z, dy) }
            : { ...from, z: put(from.z, -dx), y: put(from.y, -dy) };
        setHeld({ id: perch.id, spot: moved });
      },
      (letGo) => {
        const done = moved;
        if (!letGo || !done) return setHeld(null);
        void edits
          .edit(`Move ${perch.name}`, (latest) => setOnPerch(latest, perch.id, { spot: done }))
          .finally(() => setHeld(null));
      },
    );
  };
  return standing.map((perch) => {
    const spot = held?.id === perch.id ? held.spot : perch.spot!;
    const at = new THREE.Vector3(valueAt(spot.x, frame), valueAt(spot.y, frame), valueAt(spot.z, frame));
    at.project(eye);
    if (Math.abs(at.x) > 1 || Math.abs(at.y) > 1) return null;
    const on = chosen.kind === "perch" && chosen.id === perch.id;
    return (
      <button
        key={perch.id}
        aria-label={`Move ${perch.name} ${side === "top" ? "from above" : "from the side"}`}
        title={perch.name}
        data-spot-grip={perch.id}
        className={`absolute size-3.5 -translate-x-1/2 -translate-y-1/2 cursor-move touch-none rounded-full border-2 ${on ? "border-(--dark-on-picture) bg-[var(--spark)]" : "border-[var(--spark)] bg-(--dark-on-picture)"}`}
        style={{ left: `${(at.x + 1) * 50}%`, top: `${(1 - at.y) * 50}%` }}
        onPointerDown={(e) => grab(e, perch)}
      />
    );
  });
}

interface Drawn {
  eye: THREE.OrthographicCamera;
  draw: () => void;
  mark: (frame: number, picked: string[]) => void;
  dispose: () => void;
}

function build(
  canvas: HTMLCanvasElement,
  camera: RoomCamera,
  solve: CameraSolve,
  cloud: Cloud | null,
  side: Side,
): Drawn {
  const renderer = new THREE.WebGLRenderer({ canvas, antialias: true, alpha: true });
  renderer.setPixelRatio(Math.min(2, devicePixelRatio));
  renderer.setSize(WIDTH, HEIGHT, false);
  const scene = new THREE.Scene();
  const kept = solve.details.filter((d) => d.kept);
  const places = kept.map((d) => camera.inRoom(d.place));
  const path: V3[] = [];
  for (let f = 0; f < camera.frames; f++) if (solve.state[f]) path.push(camera.eye(f));
  const everything = [...trimmed(places), ...path];
  const box = new THREE.Box3().setFromPoints(everything.map((p) => new THREE.Vector3(...p)));
  const middle = box.getCenter(new THREE.Vector3());
  const size = box.getSize(new THREE.Vector3());
  const [across, along] = side === "top" ? [size.x, size.z] : [size.z, size.y];
  const half = Math.max(across / WIDTH, along / HEIGHT, 1e-6) * 0.58;
  const eye = new THREE.OrthographicCamera(
    -half * WIDTH,
    half * WIDTH,
    half * HEIGHT,
    -half * HEIGHT,
    0,
    1e4,
  );
  const far = size.length() * 2 + 1;
  if (side === "top") {
    eye.position.set(middle.x, middle.y + far, middle.z);
    eye.up.set(0, 0, -1);
  } else {
    eye.position.set(middle.x + far, middle.y, middle.z);
  }
  eye.lookAt(middle);

  const step = 10 ** Math.round(Math.log10(Math.max(size.length(), 1e-3) / 12));
  const grid = new THREE.GridHelper(step * 40, 40, "#5b666c", "#3a4348");
  scene.add(grid);

  // All else lies over the cloud, whatever is in front.
  if (cloud) scene.add(cloudOf(cloud));
  // Trust by shape as well as colour: round dots fit, squares fit badly.
  const dots = (which: "good" | "poor", colour: string, pixels: number) => {
    const at = kept.flatMap((d, k) => (trustOf(d) === which ? places[k]! : []));
    const shape = new THREE.BufferGeometry();
    shape.setAttribute("position", new THREE.Float32BufferAttribute(at, 3));
    const look = new THREE.PointsMaterial({
      size: pixels,
      sizeAttenuation: false,
      color: colour,
      depthTest: false,
    });
    if (which === "good") {
      look.onBeforeCompile = (s) => {
        s.fragmentShader = s.fragmentShader.replace(
          "#include <clipping_planes_fragment>",
          "#include <clipping_planes_fragment>\n if (length(gl_PointCoord - 0.5) > 0.5) discard;",
        );
      };
    }
    scene.add(new THREE.Points(shape, look));
  };
  dots("good", "#6fd0ca", 3);
  dots("poor", "#f08a6c", 4);
  const line = new THREE.BufferGeometry().setFromPoints(path.map((p) => new THREE.Vector3(...p)));
  scene.add(
    new THREE.Line(line, new THREE.LineBasicMaterial({ color: colourOf("--saffron-bar"), depthTest: false })),
  );

  const cone = new THREE.LineSegments(
    new THREE.BufferGeometry(),
    new THREE.LineBasicMaterial({ color: "#fff4d8", depthTest: false }),
  );
  scene.add(cone);
  const chosen = new THREE.Points(
    new THREE.BufferGeometry(),
    new THREE.PointsMaterial({ size: 7, sizeAttenuation: false, color: "#f5c04e", depthTest: false }),
  );
  scene.add(chosen);
  const draw = () => renderer.render(scene, eye);
  const reach = Math.max(size.length() * 0.14, 1e-6);
  const mark = (frame: number, picked: string[]) => {
    cone.geometry.setFromPoints(frustum(camera, frame, reach));
    const at = solve.details.flatMap((d) => (picked.includes(d.id) ? camera.inRoom(d.place) : []));
    chosen.geometry.setAttribute("position", new THREE.Float32BufferAttribute(at, 3));
    draw();
    canvas.dataset["frame"] = String(frame);
  };
  const dispose = () => {
    scene.traverse((o) => {
      if (o instanceof THREE.Points || o instanceof THREE.Line) {
        o.geometry.dispose();
        (o.material as THREE.Material).dispose();
      }
    });
    renderer.dispose();
  };
  return { eye, draw, mark, dispose };
}

/** What was filmed, a little dimmer than it was: details and the camera's path stand out. */
function cloudOf({ places, colours }: Cloud): THREE.Points {
  const shape = new THREE.BufferGeometry();
  shape.setAttribute("position", new THREE.BufferAttribute(places, 3));
  shape.setAttribute("color", new THREE.BufferAttribute(colours, 3, true));
  const look = new THREE.PointsMaterial({ size: 2.2, sizeAttenuation: false, vertexColors: true });
  look.color.setScalar(0.9);
  // Colours are those of the picture already.
  look.onBeforeCompile = (s) => {
    s.fragmentShader = s.fragmentShader.replace("#include <colorspace_fragment>", "");
  };
  return new THREE.Points(shape, look);
}

/** Without the few that lie far out: they would make all else small. */
function trimmed(places: V3[]): V3[] {
  if (places.length < 20) return places;
  const ranges = [0, 1, 2].map((axis) => {
    const sorted = places.map((p) => p[axis]!).sort((a, b) => a - b);
    return [sorted[Math.floor(sorted.length * 0.03)]!, sorted[Math.floor(sorted.length * 0.97)]!] as const;
  });
  return places.filter((p) => ranges.every(([low, high], axis) => p[axis]! >= low && p[axis]! <= high));
}

/** The camera as a small pyramid: from its eye to the corners of what it sees. */
function frustum(camera: RoomCamera, frame: number, reach: number): THREE.Vector3[] {
  const eye = camera.eye(frame);
  const turn = camera.turn(frame);
  const corner = (x: number, y: number) => {
    const v = [x * 0.5 * reach, y * 0.32 * reach, -reach] as const;
    return new THREE.Vector3(
      eye[0] + turn[0]! * v[0] + turn[1]! * v[1] + turn[2]! * v[2],
      eye[1] + turn[3]! * v[0] + turn[4]! * v[1] + turn[5]! * v[2],
      eye[2] + turn[6]! * v[0] + turn[7]! * v[1] + turn[8]! * v[2],
    );
  };
  const tip = new THREE.Vector3(...eye);
  const c = [corner(-1, 1), corner(1, 1), corner(1, -1), corner(-1, -1)];
  return c.flatMap((p, k) => [tip, p, p, c[(k + 1) % 4]!]);
}
