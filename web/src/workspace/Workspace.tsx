import { useEffect, useLayoutEffect, useMemo, useRef } from "react";
import { Link } from "wouter";
import { type Job, type Shot, answered, api } from "~/api/client";
import { takePartial, useLive, type PartialEvent } from "~/api/events";
import { useEdits, useJobs, useShot } from "~/api/queries";
import { ShotContext, useChosenMotion } from "~/workspace/context";
import { DeliverDialog } from "~/workspace/DeliverDialog";
import { PaintDesk } from "~/workspace/desk/PaintDesk";
import { Details } from "~/workspace/details/Details";
import { useKindsKnown } from "~/workspace/kinds";
import { useKeys } from "~/workspace/keys";
import { KeysSheet } from "~/workspace/KeysSheet";
import { PlonkDialog } from "~/workspace/PlonkDialog";
import { RunSheet } from "~/workspace/runsheet/RunSheet";
import { useWhere, WhereContext } from "~/workspace/spaces";
import { act, useWorkspace } from "~/workspace/store";
import { asFilmed, clipFrame, frameShowing, isClips, lengthOf } from "~/workspace/time";
import { TimeStrip } from "~/workspace/timestrip/TimeStrip";
import { TopBar } from "~/workspace/TopBar";
import { useTracks } from "~/workspace/tracks";
import { Viewer } from "~/workspace/viewer/Viewer";

const place = (shot: string) => `plonket.place.${shot}`;

/** The main screen of one shot. */
export function Workspace({ shotId }: { shotId: string }) {
  const { data: record, error } = useShot(shotId);
  const edits = useEdits(shotId);
  const ofClip = useWorkspace(isClips);
  const footage = record?.document.footage;
  const filmed = ofClip && !!footage?.time;
  const open = useMemo(
    () => (record ? { shotId, record: filmed ? asFilmed(record) : record, edits, filmed } : null),
    [shotId, record, edits, filmed],
  );
  useRememberedPlace(shotId, lengthOf(open?.record.document.footage));
  usePlayheadKept(filmed, footage);
  useOpenJobs(shotId);
  // What every kind has and can, and the forms of the details.
  const ready = useKindsKnown();

  if (error)
    return (
      <div className="grid h-full place-items-center">
        <div className="text-center">
          <p className="mb-2 font-semibold">{error.message}</p>
          <Link href="/" className="font-semibold text-tide underline">
            All projects
          </Link>
        </div>
      </div>
    );
  if (!open || !ready)
    return <div className="grid h-full place-items-center text-ink-2">Opening the shot …</div>;
  return (
    <ShotContext.Provider value={open}>
      <Placed />
    </ShotContext.Provider>
  );
}

function Placed() {
  return (
    <WhereContext.Provider value={useWhere()}>
      <Screen />
    </WhereContext.Provider>
  );
}

function Screen() {
  const motion = useChosenMotion();
  const tracks = useTracks(motion?.kind === "points" ? motion : null);
  useKeys(tracks);
  return (
    <div className="relative grid h-full grid-cols-[264px_minmax(0,1fr)_292px] grid-rows-[48px_minmax(0,1fr)_auto]">
      <div className="col-span-3">
        <TopBar />
      </div>
      <div className="row-span-2 min-h-0">
        <RunSheet />
      </div>
      <Viewer />
      <Details />
      <div className="col-span-2">
        <TimeStrip />
      </div>
      <PaintDesk />
      <KeysSheet />
      <PlonkDialog />
      <DeliverDialog />
    </div>
  );
}

/** The same moment is looked at when the shot is shown in the clip's time, and when it is not any more. */
function usePlayheadKept(filmed: boolean, footage: Shot["footage"] | undefined) {
  const was = useRef({ filmed, frame: 0 });
  useLayoutEffect(() => {
    const before = was.current;
    if (before.filmed === filmed) return;
    const { frame } = useWorkspace.getState();
    was.current = { filmed, frame };
    act({ do: "play", on: false });
    const goes = filmed ? clipFrame(footage, frame) : frameShowing(footage, frame, before.frame);
    if (goes !== frame) act({ do: "frame", frame: goes });
  }, [filmed, footage]);
}

/** Where the creator was looking comes back after a reload. */
function useRememberedPlace(shotId: string, frames: number) {
  useEffect(() => {
    act({ do: "reset" });
    try {
      const kept = JSON.parse(localStorage.getItem(place(shotId)) ?? "{}") as {
        frame?: number;
        chosen?: never;
      };
      if (kept.chosen) act({ do: "choose", chosen: kept.chosen });
      if (kept.frame) act({ do: "frame", frame: kept.frame });
    } catch {
      // An unreadable note is no loss.
    }
    return useWorkspace.subscribe((s) => {
      if (!s.playing)
        localStorage.setItem(place(shotId), JSON.stringify({ frame: s.frame, chosen: s.chosen }));
    });
  }, [shotId]);
  useEffect(() => {
    if (frames && useWorkspace.getState().frame >= frames) act({ do: "frame", frame: frames - 1 });
  }, [frames]);
}

/** Work that was going on before this page was opened, with its partial results. */
function useOpenJobs(shotId: string) {
  const { data } = useJobs(shotId);
  useEffect(() => {
    const open = (data ?? []).filter(
      (j) =>
        ["queued", "running", "stopping"].includes(j.state) || (j.kind === "conform" && j.state !== "done"),
    );
    useLive.setState((s) => ({
      jobs: { ...Object.fromEntries(open.map((j: Job) => [j.id, j])), ...s.jobs },
    }));
    for (const job of open)
      if (job.kind === "measure")
        void answered(api.GET("/api/jobs/{job_id}/partial", { params: { path: { job_id: job.id } } })).then(
          (events) => (events as unknown as PartialEvent[]).forEach(takePartial),
        );
  }, [data]);
}
