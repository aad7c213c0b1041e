import { ArrowDown, ArrowUp, CopyPlus, Trash2 } from "lucide-react";
import type { Layer, OperationAnswer } from "~/api/client";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { OnOff } from "~/ui/OnOff";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { has } from "~/workspace/kinds";
import { allLayers, type LayerValues, placeOf } from "~/workspace/patches";
import { act } from "~/workspace/store";

/** Another layer that cuts this one. */
export function MatteGroup({
  layer,
  set,
}: {
  layer: Layer;
  set: (label: string, values: LayerValues) => void;
}) {
  const { record } = useOpenShot();
  const names: Record<string, string> = { none: "Nothing" };
  for (const l of allLayers(record.document))
    if (l.id !== layer.id && !has("layer", l, "wash")) names[l.id] = l.name;
  return (
    <Group title="Matte">
      <Row
        label="Cut by"
        help="It is seen only where the other layer is. Hide the other one to see it only here"
        wide
      >
        <Choice
          label="Layer it is cut by"
          value={layer.matte ?? "none"}
          names={names}
          onChange={(v) =>
            set(v === "none" ? `No matte on ${layer.name}` : `${layer.name} cut by ${names[v] ?? ""}`, {
              matte: v === "none" ? null : v,
            })
          }
        />
      </Row>
      {layer.matte && (
        <>
          <Row label="Taken from" wide>
            <Choice
              label="What of it cuts"
              value={layer.matte_by}
              names={{ alpha: "What it covers", luma: "How bright it is" }}
              onChange={(v) => set(`Matte of ${layer.name}`, { matte_by: v })}
            />
          </Row>
          <Row label="Inverted" wide>
            <span className="justify-self-start">
              <OnOff
                label="Matte inverted"
                checked={layer.matte_inverted}
                onChange={(on) => set(`Matte of ${layer.name}`, { matte_inverted: on })}
              />
            </span>
          </Row>
        </>
      )}
    </Group>
  );
}

/** Where it lies in the stack: nearer, further, into a parcel or out of one; or away. */
export function StackButtons({ layer }: { layer: Layer }) {
  const { record, edits } = useOpenShot();
  const shot = record.document;
  const { list, at, stack } = placeOf(shot, layer.id);
  const move = (by: -1 | 1) =>
    void edits.operate((latest) => {
      const now = placeOf(latest, layer.id);
      const to = now.at + by;
      if (now.at < 0 || to < 0 || to >= now.stack.length) return null;
      return { do: "move", thing: layer.id, before: now.stack[by < 0 ? to : to + 1]?.id ?? null };
    });
  const inside = list !== "stack";
  // A parcel cannot lie in itself.
  const others = shot.parcels.filter((p) => layer.kind !== "parcel" || p.id !== layer.parcel);
  const names: Record<string, string> = { none: "Into a parcel …", new: "A new parcel" };
  for (const p of others) names[p.id] = p.name;
  const pack = (v: string) => {
    if (v === "none") return;
    const parcel = v === "new" ? null : v;
    void edits.operate({ do: "into parcel", thing: layer.id, parcel }).then(chooseMade);
  };
  return (
    <div className="flex flex-col gap-2 border-t border-line pt-3">
      <div className="flex gap-2">
        <Button aria-label="Nearer" disabled={at === 0} onClick={() => move(-1)}>
          <ArrowUp className="size-3.5" /> Nearer
        </Button>
        <Button aria-label="Further" disabled={at === stack.length - 1} onClick={() => move(1)}>
          <ArrowDown className="size-3.5" /> Further
        </Button>
        <span className="flex-1" />
        <Duplicate thing={layer} />
        <Button
          aria-label={`Remove ${layer.name}`}
          onClick={() => {
            void edits.operate({ do: "remove", thing: layer.id });
            act({ do: "choose", chosen: { kind: "none" } });
          }}
        >
          <Trash2 className="size-3.5" />
        </Button>
      </div>
      {inside ? (
        <Button onClick={() => void edits.operate({ do: "out of parcel", thing: layer.id })}>
          Out of its parcel
        </Button>
      ) : (
        <Choice label="Into a parcel" value="none" names={names} onChange={pack} />
      )}
    </div>
  );
}

/** What an operation has made is chosen, if it is a layer. */
export const chooseMade = (answer: OperationAnswer | null) => {
  if (answer?.made) act({ do: "choose", chosen: { kind: "layer", id: answer.made } });
};

/** The same thing once more. */
export function Duplicate({
  thing,
  sort = "layer",
}: {
  thing: { id: string; name: string };
  sort?: "layer" | "perch" | "plate" | "frame";
}) {
  const { edits } = useOpenShot();
  return (
    <Button
      aria-label={`${thing.name} once more`}
      title="Once more (E)"
      onClick={() =>
        void edits.operate({ do: "duplicate", thing: thing.id }).then((answer) => {
          if (answer?.made) act({ do: "choose", chosen: { kind: sort, id: answer.made } });
        })
      }
    >
      <CopyPlus className="size-3.5" />
    </Button>
  );
}
