import type { SiteSummary } from "../../api/client";
import { ApproveButton } from "../rollout/approve-button";
import { pickedText } from "./picks";
import { RefreshSites } from "./refresh";

/** What can be done for the sites that were picked; nothing where none is. */
export function Picked({ sites, onNone }: { sites: readonly SiteSummary[]; onNone: () => void }) {
  if (sites.length === 0) return null;
  return (
    <section className="actbar picked" aria-label="Picked">
      <p role="status">
        <b>{sites.length} picked:</b> {pickedText(sites)}
      </p>
      <span className="sp" />
      <button className="t tap underline" onClick={onNone}>
        Pick none
      </button>
      <RefreshSites sites={sites} narrowed />
      <ApproveButton label={`Approve for ${sites.length}…`} asked={{ sites: sites.map((site) => site.id) }} go />
    </section>
  );
}
