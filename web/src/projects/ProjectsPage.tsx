import { useQueryClient } from "@tanstack/react-query";
import { Plus } from "lucide-react";
import { useState } from "react";
import { useLocation } from "wouter";
import { type Project, type ShotBrief, ApiError, answered, api } from "~/api/client";
import { useProjects, useShots } from "~/api/queries";
import { PageFrame } from "~/app/PageFrame";
import { Button } from "~/ui/Button";
import { Dialog } from "~/ui/Dialog";
import { complain } from "~/ui/Notices";
import { CopyShot } from "~/projects/CopyShot";
import { Opening, OpenPack, PackButton } from "~/projects/Packs";
import { SlowImage } from "~/ui/SlowImage";
import { thumbUrl } from "~/workspace/viewer/frames";

const say = (error: unknown) => complain(error instanceof ApiError ? error.message : String(error));

export function ProjectsPage() {
  const { data, error } = useProjects();
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState("");
  const client = useQueryClient();
  const add = async () => {
    try {
      await answered(api.POST("/api/projects", { body: { name: name.trim() || "Untitled" } }));
      await client.invalidateQueries({ queryKey: ["projects"] });
      setNaming(false);
      setName("");
    } catch (problem) {
      say(problem);
    }
  };
  return (
    <PageFrame
      title="Projects"
      actions={
        <>
          <OpenPack projects={data ?? []} />
          <Button look="primary" onClick={() => setNaming(true)}>
            New project
          </Button>
        </>
      }
    >
      {error && <p className="text-brick">{error.message}</p>}
      <Opening />
      {data && !data.length && (
        <div className="rounded-xl border-2 border-dashed border-line p-12 text-center">
          <p className="mb-3 text-base font-semibold">No projects yet</p>
          <p className="mb-4 text-ink-2">
            A project holds the shots of one video. Make one, add a shot, and bring in a clip.
          </p>
          <Button look="primary" onClick={() => setNaming(true)}>
            New project
          </Button>
        </div>
      )}
      {data?.map((project) => (
        <ProjectRow key={project.id} project={project} />
      ))}
      <Dialog open={naming} onOpenChange={setNaming} title="New project">
        <form
          onSubmit={(e) => {
            e.preventDefault();
            void add();
          }}
        >
          <input
            autoFocus
            aria-label="Name of the project"
            placeholder="Name of the video or series"
            maxLength={120}
            className="mb-4 h-9 w-full rounded-lg border border-line bg-raise px-3"
            value={name}
            onChange={(e) => setName(e.target.value)}
          />
          <div className="flex justify-end gap-2">
            <Button onClick={() => setNaming(false)}>Cancel</Button>
            <Button look="primary" type="submit">
              Make it
            </Button>
          </div>
        </form>
      </Dialog>
    </PageFrame>
  );
}

function ProjectRow({ project }: { project: Project }) {
  const { data: shots } = useShots(project.id);
  const [, go] = useLocation();
  const client = useQueryClient();
  const [copying, setCopying] = useState<ShotBrief | null>(null);
  const [asking, setAsking] = useState<{ what: string; run: () => Promise<void> } | null>(null);
  const add = async () => {
    try {
      const shot = await answered(
        api.POST("/api/projects/{project_id}/shots", {
          params: { path: { project_id: project.id } },
          body: {
            name: `Shot ${(shots?.length ?? 0) + 1}`,
          },
        }),
      );
      go(`/shots/${shot.id}`);
    } catch (problem) {
      say(problem);
    }
  };
  return (
    <section className="mb-8" aria-label={project.name}>
      <div className="mb-2.5 flex items-center gap-3">
        <h2 className="text-base font-semibold">{project.name}</h2>
        <span className="num text-ink-2">{project.shots === 1 ? "1 shot" : `${project.shots} shots`}</span>
        <span className="flex-1 border-b border-dashed border-line" />
        {project.shots > 0 && <PackButton project={project} />}
        <Button
          look="quiet"
          onClick={() =>
            setAsking({
              what: `Remove the project “${project.name}” and its shots? Clips and stills stay on the shelf, finished videos under Deliveries.`,
              run: async () => {
                await answered(
                  api.DELETE("/api/projects/{project_id}", { params: { path: { project_id: project.id } } }),
                );
                await client.invalidateQueries({ queryKey: ["projects"] });
              },
            })
          }
        >
          Remove
        </Button>
      </div>
      <ul className="grid grid-cols-[repeat(auto-fill,minmax(230px,1fr))] gap-4">
        <li>
          <button
            className="grid h-full min-h-[178px] w-full place-items-center rounded-xl border-2 border-dashed border-line text-ink-2 hover:border-tide hover:text-tide"
            onClick={() => void add()}
          >
            <span className="flex items-center gap-2 font-semibold">
              <Plus className="size-4" aria-hidden /> New shot
            </span>
          </button>
        </li>
        {shots?.map((shot) => (
          <ShotCard
            key={shot.id}
            shot={shot}
            onOpen={() => go(`/shots/${shot.id}`)}
            onCopy={() => setCopying(shot)}
            onRemove={() =>
              setAsking({
                what: `Remove the shot “${shot.name}”? This cannot be undone. Its clip stays on the shelf, its finished videos under Deliveries.`,
                run: async () => {
                  await answered(
                    api.DELETE("/api/shots/{shot_id}", { params: { path: { shot_id: shot.id } } }),
                  );
                  await client.invalidateQueries({ queryKey: ["shots", project.id] });
                  await client.invalidateQueries({ queryKey: ["projects"] });
                },
              })
            }
          />
        ))}
      </ul>
      {copying && <CopyShot shot={copying} from={project.id} onClose={() => setCopying(null)} />}
      <Dialog open={asking !== null} onOpenChange={() => setAsking(null)} title="Are you sure?">
        <p className="mb-4">{asking?.what}</p>
        <div className="flex justify-end gap-2">
          <Button onClick={() => setAsking(null)}>Keep it</Button>
          <Button
            look="warn"
            onClick={() => {
              void asking?.run().catch(say);
              setAsking(null);
            }}
          >
            Remove
          </Button>
        </div>
      </Dialog>
    </section>
  );
}

function ShotCard({
  shot,
  onOpen,
  onCopy,
  onRemove,
}: {
  shot: ShotBrief;
  onOpen: () => void;
  onCopy: () => void;
  onRemove: () => void;
}) {
  const picture = thumbUrl(shot.id, shot.picture, shot.frame);
  return (
    <li className="group relative overflow-hidden rounded-xl border border-line bg-raise hover:border-tide">
      <button className="block w-full text-left" onClick={onOpen} aria-label={`Open ${shot.name}`}>
        <span className="grid aspect-video place-items-center overflow-hidden bg-well text-on-well-2">
          {shot.footage ? (
            <SlowImage
              src={picture}
              className="size-full object-cover"
              missing="Its picture cannot be drawn"
            />
          ) : (
            "No footage yet"
          )}
        </span>
        <span className="block px-3 py-2.5">
          <b className="block truncate text-sm font-semibold">{shot.name}</b>
          <span className="text-xs text-ink-2">Changed {new Date(shot.changed).toLocaleString()}</span>
        </span>
      </button>
      <span className="absolute top-2 right-2 flex gap-1 opacity-0 group-hover:opacity-100 focus-within:opacity-100">
        <button
          className="rounded-md bg-black/60 px-2 py-1 text-xs text-white"
          aria-label={`Copy ${shot.name}`}
          onClick={onCopy}
        >
          Copy
        </button>
        <button
          className="rounded-md bg-black/60 px-2 py-1 text-xs text-white"
          aria-label={`Remove ${shot.name}`}
          onClick={onRemove}
        >
          Remove
        </button>
      </span>
    </li>
  );
}
