import { useOpenShot } from "~/workspace/context";
import { Title } from "~/workspace/details/Group";
import { LookList } from "~/workspace/details/LookList";

/** What makes it one picture: looks over everything. */
export function FinishDetails() {
  const { record, edits } = useOpenShot();
  return (
    <>
      <Title title="Finish" sub="Looks over the whole picture, in this order." />
      <LookList
        layer={null}
        title="Looks"
        help="Colour, glow, grain and the like, laid over everything."
        looks={record.document.finish}
        edit={(label, change) =>
          void edits.edit(label, (latest) => [
            { op: "replace", path: "/finish", value: change(latest.finish) },
          ])
        }
      />
    </>
  );
}
