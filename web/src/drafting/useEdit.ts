import { api, problem, caughtUp, type Schemas } from "../api/client";
import { useWindow } from "../frame/address";
import { say } from "../frame/toaster";

/** Makes an edit of the draft, says what was done, and reads everything again. */
export function useEdit() {
  const w = useWindow();
  const save = api.useMutation("post", "/api/v1/policy/edits");
  const edit = async (body: Schemas["EditIn"]) => {
    const out = await save.mutateAsync({ params: { query: w }, body });
    say(out.words);
    await caughtUp();
    return out;
  };
  /** The same where there is no place to show an error but a message. */
  const tryEdit = async (body: Schemas["EditIn"]) => {
    try {
      await edit(body);
      return true;
    } catch (e) {
      say(problem(e), "error");
      return false;
    }
  };
  return { edit, tryEdit, busy: save.isPending };
}
