import { AudioLines } from "lucide-react";
import { useQueryClient } from "@tanstack/react-query";
import { type Asset, answered, api } from "~/api/client";
import { complain } from "~/ui/Notices";
import { SlowImage } from "~/ui/SlowImage";
import { clipUrl } from "~/workspace/viewer/frames";

/** What stands for a colour table. */
const TABLE =
  "linear-gradient(to top, rgb(12 14 18 / 0.85), transparent), linear-gradient(90deg, #b5483c, #d8a145, #6f9e58, #3f7fa3, #7d5aa6)";

/** Assets as pictures to choose from. */
export function StillGrid({
  assets,
  onChoose,
  verb,
}: {
  assets: Asset[];
  onChoose?: (asset: Asset) => void;
  verb?: string;
}) {
  return (
    <ul className="grid grid-cols-[repeat(auto-fill,minmax(150px,1fr))] gap-3">
      {assets.map((asset) => {
        const picture = (
          <>
            <span
              className="relative grid aspect-[4/3] place-items-center overflow-hidden rounded-t-lg"
              style={{ background: "repeating-conic-gradient(#3a3d40 0 25%, #313436 0 50%) 0 0/18px 18px" }}
            >
              {asset.kind === "table" ? (
                <span className="absolute inset-0" style={{ background: TABLE }} />
              ) : asset.kind === "sound" ? (
                <AudioLines className="size-10 text-on-well" aria-hidden />
              ) : asset.state === "ready" ? (
                <SlowImage
                  className="absolute inset-0 size-full object-contain p-1.5"
                  missing="No picture"
                  src={
                    asset.kind === "model" || asset.kind === "light"
                      ? `/api/models/${asset.digest}.jpg`
                      : asset.kind === "still"
                        ? `/api/media/${asset.digest}/original`
                        : clipUrl(asset.digest, 25, Math.floor(asset.frames / 2))
                  }
                />
              ) : (
                <Unready asset={asset} mendable={!onChoose} />
              )}
            </span>
            <span className="block px-2.5 py-2 text-left">
              <b className="block truncate font-semibold">{asset.name}</b>
              <span className="num text-ink-2">
                {asset.kind === "table"
                  ? "Colour table"
                  : asset.kind === "model"
                    ? "3D model"
                    : asset.kind === "light"
                      ? "Light map"
                      : asset.kind === "sound"
                        ? `Sound · ${(asset.seconds ?? 0).toFixed(1)} s`
                        : `${asset.width} × ${asset.height}`}
                {asset.kind === "clip" && ` · ${asset.frames} fr`}
              </span>
            </span>
          </>
        );
        const look = "block w-full rounded-lg border border-line bg-raise text-ink";
        return (
          <li key={asset.digest}>
            {onChoose ? (
              <button
                className={`${look} hover:border-tide`}
                aria-label={`${verb ?? "Choose"} ${asset.name}`}
                onClick={() => onChoose(asset)}
              >
                {picture}
              </button>
            ) : (
              <div className={look}>{picture}</div>
            )}
          </li>
        );
      })}
    </ul>
  );
}

/** A clip that cannot be shown yet, or could not be prepared. */
function Unready({ asset, mendable }: { asset: Asset; mendable: boolean }) {
  const client = useQueryClient();
  const prepare = async () => {
    try {
      await answered(
        api.POST("/api/assets/{digest}/prepare", { params: { path: { digest: asset.digest } } }),
      );
      await client.invalidateQueries({ queryKey: ["assets"] });
    } catch (problem) {
      complain(problem instanceof Error ? problem.message : String(problem));
    }
  };
  return (
    <span className="flex flex-col items-center gap-1.5 px-2 text-center text-xs text-(--on-well)">
      {asset.state === "failed" ? asset.problem : "Being prepared"}
      {asset.state === "failed" && mendable && (
        <button className="font-semibold underline" onClick={() => void prepare()}>
          Prepare again
        </button>
      )}
    </span>
  );
}

export const matches = (asset: Asset, words: string) =>
  words
    .toLowerCase()
    .split(/\s+/)
    .every((w) => `${asset.name} ${asset.words}`.toLowerCase().includes(w));
