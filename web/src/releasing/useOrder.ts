// Orders to points: one request each, which the server carries out whole.
import { api, caughtUp, problem, type Schemas } from "../api/client";
import { say } from "../frame/toaster";

export type Order = Schemas["Order"];

/** Sends an order and says what it did; refused tells what is done with a refusal instead of a message. */
export function useOrder() {
  const order = api.useMutation("post", "/api/v1/rollout/orders");
  const send = async (body: Order, done: string, refused = (words: string) => say(words, "error")) => {
    let ok = false;
    try {
      const did = await order.mutateAsync({ body });
      ok = true;
      say(did?.some((x) => x.changed) ? done : (did?.[0]?.words ?? done));
    } catch (e) {
      refused(problem(e));
    }
    await caughtUp();
    return ok;
  };
  return { send, pending: order.isPending };
}
