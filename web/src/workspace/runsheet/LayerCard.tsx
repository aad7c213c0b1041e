import { Eye, EyeOff } from "lucide-react";
import type { Layer } from "~/api/client";
import { useAssets } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { setOnLayer } from "~/workspace/patches";
import { Card, Chip } from "~/workspace/runsheet/Card";
import { useLayerSlip } from "~/workspace/slip";
import { act } from "~/workspace/store";
import { clipUrl } from "~/workspace/viewer/frames";

/** What a layer follows, by name. */
function useTargetName(layer: Layer): string | null {
  const { record } = useOpenShot();
  const shot = record.document;
  const id = layer.kind === "still" ? layer.follow.target : layer.kind === "pin" ? layer.plane : null;
  return shot.motions.find((m) => m.id === id)?.name ?? shot.perches.find((p) => p.id === id)?.name ?? null;
}

const KIND_NAMES = { still: "Still", pin: "Pinned", beam: "Beam" };

export function LayerCard({ layer, on }: { layer: Layer; on: boolean }) {
  const { record, edits } = useOpenShot();
  const target = useTargetName(layer);
  const slip = useLayerSlip(layer.id);
  const Icon = layer.shown ? Eye : EyeOff;
  const picture = layer.kind === "beam" ? layer.bead : layer.asset;
  const loose = slip !== undefined && slip.worst.length > 0;
  return (
    <Card
      on={on}
      faded={!layer.shown}
      onChoose={() => act({ do: "choose", chosen: { kind: "layer", id: layer.id } })}
      picture={
        layer.kind === "beam" && !picture ? (
          <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
            <path
              d="M6 9q15 18 30 1"
              fill="none"
              stroke={layer.colour}
              strokeWidth="2.4"
              strokeLinecap="round"
            />
          </svg>
        ) : (
          <AssetPicture digest={picture ?? ""} />
        )
      }
      name={layer.name}
      line={
        <>
          {KIND_NAMES[layer.kind]} {target && <Chip>{target}</Chip>}
          {slip?.rms_px != null && (
            <span
              className={`num ${loose ? "font-semibold text-brick" : "text-ink-3"}`}
              title="Slip against the plate"
            >
              {slip.rms_px.toFixed(2)} px{loose ? "!" : ""}
            </span>
          )}
        </>
      }
      side={
        <button
          className="shrink-0 rounded p-0.5 text-ink-2 hover:text-ink"
          aria-label={layer.shown ? `Hide ${layer.name}` : `Show ${layer.name}`}
          onClick={() =>
            void edits.edit(
              layer.shown ? `Hide ${layer.name}` : `Show ${layer.name}`,
              setOnLayer(record.document, layer.id, { shown: !layer.shown }),
            )
          }
        >
          <Icon className="size-4" />
        </button>
      }
    />
  );
}

function AssetPicture({ digest }: { digest: string }) {
  const { data: assets } = useAssets();
  const asset = assets?.find((a) => a.digest === digest);
  return (
    <img
      alt=""
      className="max-h-full max-w-full object-contain"
      src={
        asset?.kind === "clip"
          ? clipUrl(digest, 10, Math.floor(asset.frames / 2))
          : `/api/media/${digest}/original`
      }
    />
  );
}
