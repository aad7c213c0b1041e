import { useRef, useState } from "react";
import { ApiError, type Job, type Project, answered, api } from "~/api/client";
import { useLive } from "~/api/events";
import { sendFile, useUploads } from "~/api/upload";
import { Button } from "~/ui/Button";
import { Choice } from "~/ui/Choice";
import { Dialog } from "~/ui/Dialog";
import { complain } from "~/ui/Notices";
import { OnOff } from "~/ui/OnOff";
import { Progress } from "~/ui/Progress";
import { retryJob, stopJob } from "~/workspace/actions/jobs";

const ENDING = ".plonket";
const going = (job: Job | undefined) => job && ["queued", "running", "stopping"].includes(job.state);

/** A project as one file: to be kept, or opened on another computer. */
export function PackButton({ project }: { project: Project }) {
  const [open, setOpen] = useState(false);
  const [history, setHistory] = useState(false);
  const [jobId, setJobId] = useState<string | null>(null);
  const job = useLive((s) => (jobId ? s.jobs[jobId] : undefined));
  const start = async () => {
    try {
      const made = await answered(
        api.POST("/api/projects/{project_id}/pack", {
          params: { path: { project_id: project.id } },
          body: { history },
        }),
      );
      useLive.setState((s) => ({ jobs: { [made.id]: made, ...s.jobs } }));
      setJobId(made.id);
    } catch (problem) {
      complain(problem instanceof ApiError ? problem.message : String(problem));
    }
  };
  const bytes = Number(job?.result["bytes"] ?? 0);
  return (
    <>
      <Button
        look="quiet"
        onClick={() => {
          setJobId(null);
          setOpen(true);
        }}
      >
        Pack
      </Button>
      <Dialog open={open} onOpenChange={setOpen} title={`Pack ${project.name}`}>
        <p className="mb-3 text-ink-2">
          One file with all its shots, the clips and elements that they use, and what was measured: to be kept
          safe, or opened on another computer.
        </p>
        <div className="mb-4 flex items-center gap-3">
          <OnOff label="With every step" checked={history} onChange={setHistory} />
          <span>
            With every step
            <small className="block text-ink-2">So that Undo goes as far back there as here.</small>
          </span>
        </div>
        {job && (
          <div
            className="mb-4 flex items-center gap-3 rounded-lg border border-line bg-raise p-3"
            data-state={job.state}
          >
            {going(job) && (
              <>
                <Progress done={job.done} total={job.total} label={job.label} />
                <span className="num whitespace-nowrap">
                  {job.done} / {job.total} MB
                </span>
                <Button onClick={() => void stopJob(job.id)}>Stop</Button>
              </>
            )}
            {job.state === "done" && (
              <>
                <span className="flex-1">
                  <b>Packed.</b> <span className="num">{(bytes / 1e6).toFixed(1)} MB</span>. It is kept here
                  for a day.
                </span>
                <a
                  className="rounded-[7px] bg-tide px-3 py-1.5 font-semibold text-on-tide"
                  href={`/api/packs/${job.id}/file`}
                  download
                >
                  Save it
                </a>
              </>
            )}
            {(job.state === "failed" || job.state === "stopped") && (
              <span className="text-brick">{job.message}</span>
            )}
          </div>
        )}
        <div className="flex justify-end gap-2">
          <Button onClick={() => setOpen(false)}>Close</Button>
          <Button look="primary" disabled={Boolean(going(job))} onClick={() => void start()}>
            Pack it
          </Button>
        </div>
      </Dialog>
    </>
  );
}

/** Opens a packed project: as one of its own, or with its shots added to another. */
export function OpenPack({ projects }: { projects: Project[] }) {
  const input = useRef<HTMLInputElement>(null);
  const [file, setFile] = useState<File | null>(null);
  const [into, setInto] = useState("new");
  const take = () => {
    if (file) void sendFile(file, into === "new" ? {} : { project: into });
    setFile(null);
  };
  return (
    <>
      <input
        ref={input}
        type="file"
        accept={ENDING}
        className="sr-only"
        aria-label="Packed project to open"
        onChange={(e) => {
          setInto("new");
          setFile(e.target.files?.[0] ?? null);
          e.target.value = "";
        }}
      />
      <Button onClick={() => input.current?.click()}>Open a packed one …</Button>
      <Dialog open={file !== null} onOpenChange={() => setFile(null)} title={`Open ${file?.name ?? ""}`}>
        <p className="mb-2 text-ink-2">
          All of it is checked before anything is taken in. What is here already is not taken in twice.
        </p>
        <div className="mb-5">
          <Choice
            label="Into"
            value={into}
            names={{
              new: "A project of its own",
              ...Object.fromEntries(projects.map((p) => [p.id, `Its shots into ${p.name}`])),
            }}
            onChange={setInto}
          />
        </div>
        <div className="flex justify-end gap-2">
          <Button onClick={() => setFile(null)}>Cancel</Button>
          <Button look="primary" onClick={take}>
            Open it
          </Button>
        </div>
      </Dialog>
    </>
  );
}

/** Packs on their way in, and being opened. */
export function Opening() {
  const sending = useUploads((s) => s.list);
  const jobs = useLive((s) => s.jobs);
  const packs = Object.entries(sending).filter(([, one]) => one.name.toLowerCase().endsWith(ENDING));
  const opening = Object.values(jobs).filter(
    (j) => j.kind === "unpack" && (going(j) || j.state === "failed" || j.state === "stopped"),
  );
  const row = "mb-3 flex items-center gap-3 rounded-lg border border-line bg-raise p-3";
  return (
    <>
      {packs.map(([key, one]) => (
        <div key={key} className={row}>
          <b className="whitespace-nowrap">Bringing in {one.name}</b>
          <Progress done={one.sent} total={one.size} label={one.name} />
          <Button onClick={one.stop}>Stop</Button>
        </div>
      ))}
      {opening.map((job) => (
        <div key={job.id} className={row} data-testid="opening" data-state={job.state}>
          <b className="whitespace-nowrap">{job.label}</b>
          {going(job) ? (
            <>
              <Progress done={job.done} total={job.total} label={job.label} />
              <Button onClick={() => void stopJob(job.id)}>Stop</Button>
            </>
          ) : (
            <>
              <span className="flex-1 text-brick">{job.message}</span>
              <Button onClick={() => void retryJob(job.id)}>Try again</Button>
            </>
          )}
        </div>
      ))}
    </>
  );
}
