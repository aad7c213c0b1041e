import { followable } from "~/workspace/kinds";
import type { Motion } from "~/api/client";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { useApart } from "~/workspace/apart";
import { useOpenShot } from "~/workspace/context";
import { Group, Row } from "~/workspace/details/Group";
import { act, useWorkspace } from "~/workspace/store";

/** The motion set against another: which of the two moves like what is to be stuck on, and where they part. */
export function ApartGroup({ motion }: { motion: Motion }) {
  const { record } = useOpenShot();
  const apart = useWorkspace((s) => s.apart);
  const found = useApart();
  const others = followable(record.document).filter((m) => m.id !== motion.id && m.measurement);
  if (!motion.measurement || !others.length) return null;
  return (
    <Group title="Against another motion">
      <Row label="The other" wide>
        <Choice
          label="The other motion"
          value={apart?.motion ?? "none"}
          names={{ none: "None", ...Object.fromEntries(others.map((m) => [m.id, m.name])) }}
          onChange={(v) =>
            act({ do: "apart", apart: v === "none" ? null : { motion: v, at: apart?.at ?? null } })
          }
        />
      </Row>
      {found && (
        <>
          <p className="text-xs text-ink-2" data-testid="apart">
            {found.told ? (
              <>
                Apart by <span className="num text-ink">{found.told.rms.toFixed(2)} px</span> over the range,
                at the most in frame{" "}
                <button
                  className="num text-tide underline"
                  onClick={() => act({ do: "frame", frame: found.told!.worst })}
                >
                  {found.told.worst}
                </button>
                . Pull the ring to the spot that counts.
              </>
            ) : (
              "…"
            )}
          </p>
          <Button
            className="mt-1"
            onClick={() => {
              act({
                do: "compare",
                with: { how: "beside", other: { kind: "held", motion: found.second.id } },
              });
              act({ do: "show", shown: { kind: "held", motion: found.first.id } });
            }}
          >
            Both held, side by side
          </Button>
        </>
      )}
    </Group>
  );
}
