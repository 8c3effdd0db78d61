import type { Schemas, State } from "../../api/client";

/** What a run's state is drawn as. */
export const RUN_STATES: Record<Schemas["Run"]["state"], State> = {
  running: "running",
  waiting: "waiting",
  done: "clear",
  "put back": "failed",
  restored: "failed",
  stopped: "held",
  alarm: "exposed",
};
