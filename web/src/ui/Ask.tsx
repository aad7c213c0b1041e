import { create } from "zustand";
import { Button } from "~/ui/Button";
import { Dialog } from "~/ui/Dialog";

interface Question {
  title: string;
  text: string;
  yes: string;
  no: string;
}
const useQuestion = create<{ asked: (Question & { answer: (yes: boolean) => void }) | null }>(() => ({
  asked: null,
}));

/** Ask something that must be decided before work goes on. Closed without an answer, it is a no. */
export const ask = (question: Question): Promise<boolean> =>
  new Promise((resolve) => {
    const answer = (yes: boolean) => {
      useQuestion.setState({ asked: null });
      resolve(yes);
    };
    useQuestion.getState().asked?.answer(false);
    useQuestion.setState({ asked: { ...question, answer } });
  });

/** Where questions are shown; once in the application. */
export function Asker() {
  const asked = useQuestion((s) => s.asked);
  return (
    <Dialog open={asked !== null} onOpenChange={() => asked?.answer(false)} title={asked?.title ?? ""}>
      <p className="mb-4">{asked?.text}</p>
      <div className="flex justify-end gap-2">
        <Button onClick={() => asked?.answer(false)}>{asked?.no}</Button>
        <Button look="primary" onClick={() => asked?.answer(true)}>
          {asked?.yes}
        </Button>
      </div>
    </Dialog>
  );
}
