import { useQuery, useQueryClient } from "@tanstack/react-query";
import { FileDown, FileUp, FolderOutput } from "lucide-react";
import { type Clean, type CleanFrame, answered, api } from "~/api/client";
import { sendFile } from "~/api/upload";
import { Button } from "~/ui/Button";
import { complain } from "~/ui/Notices";
import { NumberBox } from "~/ui/NumberBox";
import { OnOff } from "~/ui/OnOff";
import { Slider } from "~/ui/Slider";
import { pickFile } from "~/workspace/actions/files";
import { useOpenShot } from "~/workspace/context";
import type { BrushSettings } from "~/workspace/desk/brush";
import { Group, Row, Title } from "~/workspace/details/Group";
import { setOnPlate } from "~/workspace/patches";

interface Props {
  clean: Clean;
  given: CleanFrame;
  brush: BrushSettings;
  setBrush: (change: (b: BrushSettings) => BrushSettings) => void;
  asFilmed: boolean;
  setAsFilmed: (on: boolean) => void;
  masksShown: boolean;
  setMasksShown: (on: boolean) => void;
}

/** The brush, what is shown, and the way out to other paint programs and back. */
export function DeskSide(props: Props) {
  const { clean, given, brush, setBrush } = props;
  const { edits } = useOpenShot();
  const amend = (label: string, values: (f: CleanFrame) => Partial<CleanFrame>) =>
    void edits.edit(label, (latest) => {
      const now = latest.plate.find((t): t is Clean => t.id === clean.id && t.kind === "clean") ?? clean;
      const frames = now.frames.map((f) => (f.frame === given.frame ? { ...f, ...values(f) } : f));
      return setOnPlate(latest, clean.id, { frames });
    });
  const last = given.strokes.at(-1);
  return (
    <aside aria-label="Brush" className="overflow-y-auto border-l border-line bg-paper px-3 py-2">
      <Title title={clean.name} sub="Only what its masks cover is taken from this frame." />
      <Group title="Brush">
        <BrushRow
          label="Size"
          unit="px"
          low={2}
          high={600}
          soft={240}
          value={brush.size}
          onChange={(size) => setBrush((b) => ({ ...b, size }))}
        />
        <BrushRow
          label="Hard"
          unit="%"
          low={0}
          high={100}
          soft={100}
          value={brush.hard}
          onChange={(hard) => setBrush((b) => ({ ...b, hard }))}
        />
        <BrushRow
          label="Covers"
          unit="%"
          low={1}
          high={100}
          soft={100}
          value={brush.flow}
          onChange={(flow) => setBrush((b) => ({ ...b, flow }))}
        />
        {brush.tool === "paint" && (
          <Row label="Colour" wide>
            <input
              type="color"
              aria-label="Colour"
              className="h-7 w-14 cursor-pointer rounded-md border border-line bg-raise p-0.5"
              value={brush.colour}
              onChange={(e) => setBrush((b) => ({ ...b, colour: e.target.value }))}
            />
          </Row>
        )}
        {last?.tool === "suggest" && (
          <Button
            onClick={() =>
              amend("Suggest another fill", (f) => ({
                strokes: f.strokes.map((s, k) =>
                  k === f.strokes.length - 1 ? { ...s, seed: s.seed + 1 } : s,
                ),
              }))
            }
          >
            Another suggestion
          </Button>
        )}
      </Group>
      <Group title="Shown">
        <Row label="As filmed" wide>
          <span className="justify-self-start">
            <OnOff label="Show the frame as filmed" checked={props.asFilmed} onChange={props.setAsFilmed} />
          </span>
        </Row>
        <Row label="Masks" wide>
          <span className="justify-self-start">
            <OnOff
              label="Show the masks' outlines"
              checked={props.masksShown}
              onChange={props.setMasksShown}
            />
          </span>
        </Row>
      </Group>
      <Group title="Suggested fill">
        <Row
          label="In the masks"
          help="Fill what the masks cover from its surroundings, below all strokes"
          wide
        >
          <span className="flex items-center justify-between">
            <OnOff
              label="Suggest a fill in the masks"
              checked={given.suggest}
              onChange={(suggest) =>
                amend(suggest ? "Suggest a fill" : "No suggested fill", () => ({ suggest }))
              }
            />
            {given.suggest && (
              <button
                className="text-tide hover:underline"
                onClick={() => amend("Suggest another fill", (f) => ({ seed: f.seed + 1 }))}
              >
                Another
              </button>
            )}
          </span>
        </Row>
      </Group>
      <Outside clean={clean} given={given} />
      <Group title="Strokes">
        <p className="flex items-center justify-between text-xs text-ink-2">
          <span>
            <span className="num">{given.strokes.length}</span> laid
            {given.picture ? ", over a picture painted elsewhere" : ""}
          </span>
          {(given.strokes.length > 0 || given.picture) && (
            <button
              className="text-brick hover:underline"
              onClick={() => amend("Begin the frame afresh", () => ({ strokes: [], picture: null }))}
            >
              Begin afresh
            </button>
          )}
        </p>
      </Group>
      <p className="border-t border-line pt-2 text-[11px] leading-snug text-ink-3">
        Right-click or S: take from there. Up and down: brush size. Wheel: closer; Space-drag: move. Esc:
        done.
      </p>
    </aside>
  );
}

function BrushRow({
  label,
  unit,
  low,
  high,
  soft,
  value,
  onChange,
}: {
  label: string;
  unit: string;
  low: number;
  high: number;
  soft: number;
  value: number;
  onChange: (v: number) => void;
}) {
  return (
    <Row label={label}>
      <Slider label={label} value={value} low={low} high={soft} onPreview={onChange} />
      <NumberBox
        label={`${label} value`}
        value={value}
        low={low}
        high={high}
        step={1}
        unit={unit}
        onPreview={() => undefined}
        onCommit={onChange}
      />
      <span />
    </Row>
  );
}

/** Out to a PNG file that is watched, or by download and upload; back it comes as the frame's picture. */
function Outside({ clean, given }: { clean: Clean; given: CleanFrame }) {
  const { shotId, record, edits } = useOpenShot();
  const client = useQueryClient();
  const params = { path: { shot_id: shotId, treatment: clean.id, frame: given.frame } };
  const key = ["outside", shotId, clean.id, given.frame];
  const write = () =>
    answered(api.POST("/api/shots/{shot_id}/clean/{treatment}/{frame}/outside", { params }));
  const { data } = useQuery({
    queryKey: [...key, record.number],
    queryFn: () => answered(api.GET("/api/shots/{shot_id}/clean/{treatment}/{frame}/outside", { params })),
    refetchInterval: 4000,
    placeholderData: (before) => before,
  });
  const run = (work: Promise<unknown>) =>
    work.then(() => client.invalidateQueries({ queryKey: key })).catch((e: Error) => complain(e.message));
  const back = async (file: File) => {
    const sent = await sendFile(file, {});
    if (!sent) return;
    if (sent.kind !== "still") {
      complain("That is not a picture. Save the frame as a PNG and choose that.");
      return;
    }
    await edits.ask(() =>
      api.POST("/api/shots/{shot_id}/clean/{treatment}/{frame}/picture", {
        params,
        body: { digest: sent.digest },
      }),
    );
  };
  return (
    <Group title="Another paint program">
      {data ? (
        <>
          <p className="mb-1 text-xs text-ink-2">
            Open this file, paint, save. The shot takes it back by itself.
          </p>
          <input
            readOnly
            aria-label="File to paint on"
            value={data.path}
            className="mb-1 w-full rounded-md border border-line bg-raise px-2 py-1 font-mono text-[11px]"
            onFocus={(e) => e.target.select()}
          />
          {data.problem && (
            <p className="mb-1 rounded-md bg-brick-2 px-2 py-1 text-xs text-brick">{data.problem}</p>
          )}
          <div className="flex gap-1">
            <Button onClick={() => void run(write())} title="Write the frame as it is now to the file">
              Write afresh
            </Button>
            <Button
              onClick={() =>
                void run(
                  answered(api.DELETE("/api/shots/{shot_id}/clean/{treatment}/{frame}/outside", { params })),
                )
              }
            >
              Watch no more
            </Button>
          </div>
        </>
      ) : (
        <div className="flex flex-wrap gap-1">
          <Button onClick={() => void run(write())}>
            <FolderOutput className="size-3.5" /> Out to a PNG
          </Button>
          <Button
            aria-label="Download the frame"
            title="Download the frame as a PNG"
            onClick={() => {
              const a = document.createElement("a");
              a.href = `/api/shots/${shotId}/clean/${clean.id}/${given.frame}.png`;
              a.download = "";
              a.click();
            }}
          >
            <FileDown className="size-3.5" />
          </Button>
          <Button
            aria-label="Bring a painted frame back"
            title="Bring a painted frame back"
            onClick={() => pickFile("image/*", (file) => void back(file))}
          >
            <FileUp className="size-3.5" />
          </Button>
        </div>
      )}
    </Group>
  );
}
