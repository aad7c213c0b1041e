import { Redo2, Undo2 } from "lucide-react";
import { useState } from "react";
import { Link } from "wouter";
import mark from "~/app/mark.svg";
import { ThemeButton } from "~/app/PageFrame";
import { useLive } from "~/api/events";
import { Button } from "~/ui/Button";
import { useOpenShot } from "~/workspace/context";
import { NeedsLook } from "~/workspace/NeedsLook";
import { act } from "~/workspace/store";

export function TopBar() {
  const { record, edits } = useOpenShot();
  const connected = useLive((s) => s.connected);
  const shot = record.document;
  return (
    <header className="flex h-12 items-center gap-2.5 border-b border-line bg-sheet px-3.5">
      <Link href="/" aria-label="All projects">
        <img src={mark} alt="" className="size-[26px]" />
      </Link>
      <span className="text-ink-2">{record.project_name}</span>
      <span className="text-ink-3">/</span>
      <ShotName
        name={shot.name}
        onName={(name) => void edits.edit("Rename the shot", [{ op: "replace", path: "/name", value: name }])}
      />
      <span className={`text-xs ${connected ? "text-ink-3" : "font-semibold text-brick"}`}>
        {connected ? `Saved · step ${record.number}` : "Not connected; trying again"}
      </span>
      <span className="flex-1" />
      <NeedsLook />
      <Button
        onClick={() => void edits.undo()}
        disabled={!record.undo}
        title={record.undo ? `Undo: ${record.undo} (Ctrl Z)` : "Nothing to undo"}
      >
        <Undo2 className="size-3.5" aria-hidden /> Undo
      </Button>
      <Button
        onClick={() => void edits.redo()}
        disabled={!record.redo}
        title={record.redo ? `Redo: ${record.redo} (Ctrl Shift Z)` : "Nothing to redo"}
      >
        <Redo2 className="size-3.5" aria-hidden /> Redo
      </Button>
      <ThemeButton />
      <Button aria-label="Keys" onClick={() => act({ do: "open", what: "keys", on: true })}>
        ?
      </Button>
      <Button
        look="primary"
        disabled={!shot.footage}
        onClick={() => act({ do: "open", what: "deliver", on: true })}
      >
        Deliver
      </Button>
    </header>
  );
}

function ShotName({ name, onName }: { name: string; onName: (name: string) => void }) {
  const [typed, setTyped] = useState<string | null>(null);
  return (
    <input
      aria-label="Name of the shot"
      className="w-56 truncate rounded-md border border-transparent bg-transparent px-1 py-0.5 font-semibold hover:border-line focus:border-line focus:bg-raise"
      value={typed ?? name}
      maxLength={120}
      onChange={(e) => setTyped(e.target.value)}
      onKeyDown={(e) => {
        if (e.key === "Enter") e.currentTarget.blur();
        if (e.key === "Escape") setTyped(null);
      }}
      onBlur={() => {
        if (typed !== null && typed.trim() && typed !== name) onName(typed.trim());
        setTyped(null);
      }}
    />
  );
}
