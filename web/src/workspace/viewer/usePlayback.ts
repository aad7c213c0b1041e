import { useEffect, useMemo, useRef, useState } from "react";
import type { Shot, ShotRecord } from "~/api/client";
import { useAssets } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { allLayers } from "~/workspace/patches";
import { act, useWorkspace } from "~/workspace/store";
import { lengthOf } from "~/workspace/time";
import { filmedFps, fpsOf } from "~/workspace/viewer/rates";
import { gainAt, gainCurve } from "~/workspace/viewer/soundGain";
import {
  clipRun,
  otherAddress,
  type FrameAddress,
  frameStore,
  type Run,
  shotRun,
  streamFrames,
} from "~/workspace/viewer/frames";

const AHEAD = 24;

/**
 * Plays the range in time with its sound. The sound's clock leads; frames that have not arrived in
 * time are dropped, and the honest rate is returned.
 */
export function usePlayback(record: ShotRecord | undefined, address: FrameAddress | null): number {
  const playing = useWorkspace((s) => s.playing);
  const compare = useWorkspace((s) => s.compare);
  const [shownRate, setShownRate] = useState(0);
  const sound = useSound(record);
  const { filmed: ownTime } = useOpenShot();
  // They go by the shot's time: in the clip's own they are not heard.
  const others = useOthers(ownTime ? undefined : record);
  const footage = record?.document.footage;
  const asItRuns = sound?.asItRuns ?? false;
  const asset = footage?.asset;
  const retimed = !!footage?.time;
  // What it is compared with plays along; another frame stands still.
  const other = compare?.other;
  const runs = useMemo<Run[]>(() => {
    if (!address || !asset) return [];
    if (!other || other.kind === "frame") return [shotRun(address)];
    // A clip that runs otherwise than the shot cannot be played beside it frame by frame: the plate is.
    const beside =
      other.kind !== "untouched"
        ? shotRun(otherAddress(other, address))
        : retimed
          ? shotRun({ ...address, view: "plate" })
          : clipRun(asset, address.percent);
    return [shotRun(address), beside];
  }, [address, other, asset, retimed]);
  const runsRef = useRef(runs);
  useEffect(() => {
    runsRef.current = runs;
  }, [runs]);
  const laidRef = useRef(record?.document);
  useEffect(() => {
    laidRef.current = record?.document;
  }, [record]);
  const start = footage?.in_frame ?? 0;
  const end = footage?.out_frame ?? 0;
  const fps = footage ? fpsOf(footage) : null;
  const filmed = footage ? filmedFps(footage) : 1;

  useEffect(() => {
    if (!playing || !fps) return;
    const stopper = new AbortController();
    let from = useWorkspace.getState().frame;
    if (from >= end || from < start) from = start;
    let askedTo = from;
    let began: number | null = null;
    let source: AudioBufferSourceNode | null = null;
    let under: AudioBufferSourceNode | null = null;
    let shown = 0;
    let last = from - 1;
    let windowStart = performance.now();
    let handle = 0;
    let busy = false;
    let every = 1;
    let late = 0;

    const isHere = (frame: number) =>
      runsRef.current.length > 0 && runsRef.current.every((run) => frameStore.get(run.each(frame)));

    const fetchAhead = (now: number) => {
      const wanted = runsRef.current;
      if (!wanted.length || busy || askedTo > end || askedTo - now > AHEAD) return;
      // What is past is not worth fetching any more, nor what will be past when it comes.
      if (askedTo < now) askedTo = Math.min(now + 2 + late, end);
      while (askedTo <= end && isHere(askedTo)) askedTo++;
      if (askedTo > end) return;
      const stop = Math.min(askedTo + AHEAD / 2, end + 1);
      const due = ((stop - askedTo) / fps) * 1000;
      const asked = performance.now();
      busy = true;
      void Promise.all(wanted.map((run) => streamFrames(run, askedTo, stop, every, stopper.signal)))
        .catch(() => undefined)
        .finally(() => {
          busy = false;
          // Too slow for every frame: leave some out evenly, and try more again when there is time.
          const spent = performance.now() - asked;
          late = Math.min(AHEAD, Math.floor(((spent / 1000) * fps) / 2));
          if (spent > due * 1.05) every = Math.min(6, every + 1);
          else if (spent < due * 0.45) every = Math.max(1, every - 1);
        });
      askedTo = stop;
    };

    const startSound = () => {
      if (others) {
        under = others.context.createBufferSource();
        under.buffer = others.buffer;
        under.connect(others.context.destination);
        under.start(0, from / fps, (end + 1 - from) / fps);
      }
      if (!sound) return;
      source = sound.context.createBufferSource();
      source.buffer = sound.buffer;
      const louder = sound.context.createGain();
      const laid = laidRef.current;
      if (laid?.footage) {
        const curve = gainCurve(laid.sound, laid.footage, from, end);
        louder.gain.setValueCurveAtTime(curve, sound.context.currentTime, (end + 1 - from) / fps);
      }
      source.connect(louder).connect(sound.context.destination);
      // Slowed pictures have slowed sound, as of a tape; one that was made as the shot runs is played as it is.
      const rate = asItRuns ? fps : filmed;
      source.playbackRate.value = fps / rate;
      source.start(0, from / rate, (end + 1 - from) / rate);
    };

    const tick = () => {
      const time = performance.now();
      if (began === null) {
        fetchAhead(from);
        // Start once the first frames are there, so that the beginning is not lost.
        if (isHere(from) && !(busy && askedTo - from <= AHEAD / 2)) {
          began = time;
          windowStart = time;
          startSound();
        }
      } else {
        const now = Math.min(end, from + Math.floor(((time - began) / 1000) * fps));
        fetchAhead(now);
        // The newest frame that is there: one that came late beats a picture that stands still.
        let newest = now;
        while (newest > last && !isHere(newest)) newest--;
        if (newest > last) {
          act({ do: "frame", frame: newest });
          last = newest;
          shown++;
        }
        if (time - windowStart > 1000) {
          setShownRate((shown * 1000) / (time - windowStart));
          shown = 0;
          windowStart = time;
        }
        if (time - began > ((end + 1 - from) / fps) * 1000) {
          source?.stop();
          under?.stop();
          from = start;
          askedTo = start;
          began = null;
          last = start - 1;
        }
      }
      handle = requestAnimationFrame(tick);
    };
    handle = requestAnimationFrame(tick);
    return () => {
      cancelAnimationFrame(handle);
      stopper.abort();
      source?.stop();
      under?.stop();
      setShownRate(0);
    };
  }, [playing, fps, filmed, start, end, sound, others, asItRuns]);

  useSnatches(sound, record?.document);

  return shownRate;
}

const SNATCH_S = 0.07;

/** While the time strip is scrubbed, a short snatch of each frame's sound. */
function useSnatches(sound: Heard | null, shot: Shot | undefined) {
  const scrubbing = useWorkspace((s) => s.scrubbing);
  const frame = useWorkspace((s) => s.frame);
  useEffect(() => {
    const footage = shot?.footage;
    if (!scrubbing || !sound || !footage || !shot) return;
    const source = sound.context.createBufferSource();
    source.buffer = sound.buffer;
    const louder = sound.context.createGain();
    const now = sound.context.currentTime;
    // Faded at both ends: a bare cut clicks.
    const gain = gainAt(shot.sound, footage, frame);
    louder.gain.setValueCurveAtTime(Float32Array.from([0, gain, gain, 0]), now, SNATCH_S);
    source.connect(louder).connect(sound.context.destination);
    source.start(0, frame / (sound.asItRuns ? fpsOf(footage) : filmedFps(footage)), SNATCH_S);
    return () => source.stop();
  }, [scrubbing, frame, sound, shot]);
}

interface Buffered {
  context: AudioContext;
  buffer: AudioBuffer;
}

interface Heard extends Buffered {
  /** Whether it goes by the shot's frames, not by the clip's. */
  asItRuns: boolean;
}

function useSound(record: ShotRecord | undefined): Heard | null {
  const { data: assets } = useAssets();
  const footage = record?.document.footage?.asset;
  // A clip without sound is not asked for any.
  const asset = assets?.find((a) => a.digest === footage)?.has_audio ? footage : undefined;
  const shot = record?.document;
  // What runs otherwise than the clip, or keeps its pitch, the server makes.
  const asItRuns =
    !!shot?.footage &&
    (!!shot.footage.time || (shot.sound.pitch === "kept" && fpsOf(shot.footage) !== filmedFps(shot.footage)));
  const from = useRunning(record, asItRuns, asset);
  const buffer = useBuffer(from);
  return useMemo(() => buffer && { ...buffer, asItRuns }, [buffer, asItRuns]);
}

/** What is laid under the shot, and what clips in its stack let hear, in the shot's own time. */
function useOthers(record: ShotRecord | undefined): Buffered | null {
  const shot = record?.document;
  const heard = (shot ? allLayers(shot) : []).filter((l) => "volume" in l && l.shown && l.volume !== 0);
  const depends = JSON.stringify([shot?.sounds, heard, shot?.footage?.played_at, lengthOf(shot?.footage)]);
  const number = useNumberOf(record, depends);
  const some = (shot?.sounds.length ?? 0) > 0 || heard.length > 0;
  return useBuffer(record && some ? `/api/shots/${record.id}/others/${number}.wav` : null);
}

/** A sound's samples, fetched when play is first pressed: browsers allow no sound before a press. */
function useBuffer(from: string | null): Buffered | null {
  const playing = useWorkspace((s) => s.playing || s.scrubbing);
  const [sound, setSound] = useState<(Buffered & { from: string }) | null>(null);
  useEffect(() => {
    if (!from || !playing || sound?.from === from) return;
    let gone = false;
    void (async () => {
      const answer = await fetch(from);
      if (!answer.ok) return;
      const context = new AudioContext();
      const buffer = await context.decodeAudioData(await answer.arrayBuffer());
      if (!gone) setSound({ from, context, buffer });
    })();
    return () => {
      gone = true;
    };
  }, [from, playing, sound]);
  return sound && sound.from === from ? sound : null;
}

/** Where the sound comes from; of one that the server makes, the address changes only with what it depends on. */
function useRunning(record: ShotRecord | undefined, asItRuns: boolean, asset: string | undefined) {
  const footage = record?.document.footage;
  const depends = JSON.stringify([footage?.time, footage?.played_at, record?.document.sound.pitch]);
  const number = useNumberOf(record, depends);
  if (!asset || !record) return null;
  return asItRuns ? `/api/shots/${record.id}/sound/${number}.wav` : `/api/media/${asset}/sound.wav`;
}

/** The revision in which something came to be as it is. */
function useNumberOf(record: ShotRecord | undefined, depends: string): number {
  const [made, setMade] = useState({ depends: "", number: 0 });
  if (record && made.depends !== depends) {
    setMade({ depends, number: record.number });
    return record.number;
  }
  return made.number;
}
