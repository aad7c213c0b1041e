import { Eye, EyeOff } from "lucide-react";
import type { Layer } from "~/api/client";
import { useAssets } from "~/api/queries";
import { useOpenShot } from "~/workspace/context";
import { kindOf, told } from "~/workspace/kinds";
import { setOnLayer } from "~/workspace/patches";
import { Card, Chip } from "~/workspace/runsheet/Card";
import { useLayerSlip } from "~/workspace/slip";
import { act } from "~/workspace/store";
import { clipFrame } from "~/workspace/time";
import { clipUrl } from "~/workspace/viewer/frames";

/** What a layer follows, by name. */
function useTargetName(layer: Layer): string | null {
  const { record } = useOpenShot();
  const shot = record.document;
  const id = "follow" in layer ? layer.follow.target : record.leaders[layer.id];
  return shot.motions.find((m) => m.id === id)?.name ?? shot.perches.find((p) => p.id === id)?.name ?? null;
}

/** What kind of thing it is, in a word: a clip is no still. */
function useKindName(layer: Layer): string {
  const { data: assets } = useAssets();
  const name = told(kindOf("layer", layer.kind)?.card, layer) || layer.kind;
  if (layer.kind !== "still") return name;
  const clip = assets?.find((a) => a.digest === layer.asset)?.kind === "clip";
  return layer.key ? "Keyed" : clip ? "Clip" : name;
}

export function LayerCard({ layer, on }: { layer: Layer; on: boolean }) {
  const { record, edits } = useOpenShot();
  const target = useTargetName(layer);
  const slip = useLayerSlip(layer.id);
  const Icon = layer.shown ? Eye : EyeOff;
  const kind = useKindName(layer);
  const loose = slip !== undefined && slip.worst.length > 0;
  return (
    <Card
      on={on}
      faded={!layer.shown}
      onChoose={() => act({ do: "choose", chosen: { kind: "layer", id: layer.id } })}
      picture={<LayerPicture layer={layer} />}
      name={layer.name}
      line={
        <>
          {kind} {target && <Chip>{target}</Chip>}
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

function LayerPicture({ layer }: { layer: Layer }) {
  switch (layer.kind) {
    case "still":
    case "pin":
      return <AssetPicture digest={layer.asset} />;
    case "plate":
      return <FootagePicture />;
    case "dome":
    case "model":
      return <img alt="" className="size-full object-cover" src={`/api/models/${layer.asset}.jpg`} />;
    case "generated":
      return (
        <img alt="" className="size-full object-cover" src={`/api/generated/${layer.generator.kind}.jpg`} />
      );
    case "beam":
      if (layer.bead) return <AssetPicture digest={layer.bead} />;
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path
            d="M6 9q15 18 30 1"
            fill="none"
            stroke={layer.colour}
            strokeWidth="2.4"
            strokeLinecap="round"
          />
        </svg>
      );
    case "lamp":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#2c3138" />
          <path d="M15 9L5 28h32L27 9z" fill={layer.colour} opacity="0.35" />
          <path d="M13 5h16v4H13z" fill={layer.colour} />
        </svg>
      );
    case "breaking":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#5a5348" />
          <path d="M15 10l8-3 7 5-3 9-10 1-5-6z" fill="#14110e" />
          <path
            d="M15 10L6 3M23 7l3-7M30 12l12-3M27 21l6 7M17 22l-5 6M12 16L0 18"
            fill="none"
            stroke="#14110e"
            strokeWidth="1.3"
          />
        </svg>
      );
    case "relief":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#5a5348" />
          <path
            d="M0 21h9c6 0 6-12 12-12s6 12 12 12h9M0 25h10c6 0 6-8 11-8s5 8 11 8h10M0 17h8c5 0 6-13 13-13s8 13 13 13h8"
            fill="none"
            stroke="#d8c9a8"
            strokeWidth="1.3"
          />
        </svg>
      );
    case "form":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#2c3138" />
          <path
            d={
              layer.shape === "plane"
                ? "M6 20l14-9 17 4-14 10z"
                : layer.shape === "cylinder"
                  ? "M13 8v12c0 2 4 4 8 4s8-2 8-4V8c0-2-4-4-8-4s-8 2-8 4zM13 8c0 2 4 4 8 4s8-2 8-4"
                  : "M9 9l12-4 12 4v10l-12 4-12-4zM9 9l12 4 12-4M21 13v10"
            }
            fill={layer.use === "plate" ? "#6fb3b8" : "none"}
            fillOpacity="0.5"
            stroke="#d8d3c6"
            strokeWidth="1.4"
            strokeDasharray={layer.use === "holdout" ? "3 2" : undefined}
            strokeLinejoin="round"
          />
        </svg>
      );
    case "fill":
      return (
        <span
          className="size-full"
          style={{
            background:
              layer.course === "even"
                ? layer.first
                : layer.course === "round"
                  ? `radial-gradient(${layer.first}, ${layer.other})`
                  : `linear-gradient(to top, ${layer.first}, ${layer.other})`,
          }}
        />
      );
    case "wash":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#2c3138" />
          <path d="M0 17q10-7 21 0t21 0v11H0z" fill="#6fb3b8" opacity="0.85" />
          <path d="M0 21q10-6 21 0t21 0v7H0z" fill="var(--grip)" />
        </svg>
      );
    case "parcel":
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#2c3138" />
          <path d="M12 9h18v12H12zM12 13h18M20 9v12" fill="none" stroke="#e0c89a" strokeWidth="1.6" />
        </svg>
      );
    default:
      return (
        <svg viewBox="0 0 42 28" className="size-full" aria-hidden>
          <path d="M0 0H42V28H0z" fill="#2c3138" />
          <path d="M12 8h18v12H12z" fill="none" stroke="#d8d3c6" strokeWidth="1.4" strokeLinejoin="round" />
        </svg>
      );
  }
}

/** The footage, with what lies behind part of it. */
function FootagePicture() {
  const { record } = useOpenShot();
  const footage = record.document.footage;
  if (!footage) return null;
  return (
    <span className="relative size-full">
      <img
        alt=""
        className="size-full object-cover"
        src={clipUrl(
          footage.asset,
          10,
          clipFrame(footage, Math.floor((footage.in_frame + footage.out_frame) / 2)),
        )}
      />
      <svg viewBox="0 0 42 28" className="absolute inset-0 size-full" aria-hidden>
        <path d="M0 0h42v9q-12 5-21 3T0 16z" fill="#2c3138" fillOpacity="0.82" />
        <path d="M0 16q12-6 21-4t21-3" fill="none" stroke="#e0c89a" strokeWidth="1.4" strokeDasharray="3 2" />
      </svg>
    </span>
  );
}

function AssetPicture({ digest }: { digest: string }) {
  const { data: assets } = useAssets();
  const asset = assets?.find((a) => a.digest === digest);
  if (!asset) return null;
  return (
    <img
      alt=""
      className="max-h-full max-w-full object-contain"
      src={
        asset.kind === "clip"
          ? clipUrl(digest, 10, Math.floor(asset.frames / 2))
          : `/api/media/${digest}/original`
      }
    />
  );
}
