import { apply, type Point } from "~/workspace/geometry";
import { useMasked } from "~/workspace/masks";
import { outlineAt, pathOf } from "~/workspace/outline";

interface Props {
  frame: number;
  masks: boolean;
  show: (p: Point) => Point;
  /** Where the brush is, and where it takes its picture from: pixels of the frame. */
  cursor: Point | null;
  source: Point | null;
  /** Of the brush, in screen pixels. */
  radius: number;
  hard: number;
}

const SOURCE = "#ffc861";

/** What lies over the frame at the desk: the masks, the brush, its source. */
export function DeskMarks({ frame, masks, show, cursor, source, radius, hard }: Props) {
  const at = cursor && show(cursor);
  const from = source && show(source);
  return (
    <svg className="pointer-events-none absolute inset-0 size-full">
      {masks && <MaskLines frame={frame} show={show} />}
      {from && (
        <g>
          {at && (
            <line
              {...{ x1: at.x, y1: at.y, x2: from.x, y2: from.y }}
              stroke={SOURCE}
              strokeOpacity="0.45"
              strokeDasharray="1 5"
              strokeWidth="1.5"
            />
          )}
          <Ring at={from} radius={Math.max(radius, 4)} colour={SOURCE} dashed />
          <path
            d={`M${from.x - 4} ${from.y}h8M${from.x} ${from.y - 4}v8`}
            stroke={SOURCE}
            strokeWidth="1.4"
          />
        </g>
      )}
      {at && <Ring at={at} radius={Math.max(radius, 2)} colour="#fff" />}
      {at && hard < 95 && (
        <circle
          cx={at.x}
          cy={at.y}
          r={Math.max((radius * hard) / 100, 1)}
          fill="none"
          stroke="#fff"
          strokeOpacity="0.45"
        />
      )}
    </svg>
  );
}

/** A circle that is seen on light and dark. */
function Ring({
  at,
  radius,
  colour,
  dashed,
}: {
  at: Point;
  radius: number;
  colour: string;
  dashed?: boolean;
}) {
  const where = { cx: at.x, cy: at.y, r: radius, fill: "none" };
  return (
    <>
      <circle {...where} stroke="#000" strokeOpacity="0.55" strokeWidth="3.2" />
      <circle {...where} stroke={colour} strokeWidth="1.5" strokeDasharray={dashed ? "5 4" : undefined} />
    </>
  );
}

/** The outlines of the masks: only what lies inside is taken from this frame. */
function MaskLines({ frame, show }: { frame: number; show: (p: Point) => Point }) {
  const masked = useMasked();
  return masked?.thing.masks.map((m) =>
    "outline" in m && m.shown ? (
      <path
        key={m.id}
        d={pathOf(outlineAt(m.outline, frame), (p) => show(apply(masked.space(m, frame), p)))}
        fill="none"
        stroke={m.colour}
        strokeWidth="1.5"
        strokeDasharray="6 3"
      />
    ) : null,
  );
}
