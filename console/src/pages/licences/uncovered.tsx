import { useMutation, useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, asked, queries, type Schemas, told } from "../../api/client";
import { Load } from "../../pieces/load";
import { plural } from "../../pieces/time";

type One = Schemas["Uncovered"];

export function Uncovered() {
  const coverage = useQuery(asked.coverage());
  const found = coverage.data;
  return (
    <section className="pt-2" aria-label="Components no feed covers">
      <div className="hd">
        <h2>Components no feed covers</h2>
        {found && (
          <span className="q text-[13px]">
            {found.covered} of {plural(found.components, "component")} have a feed; of{" "}
            {found.components - found.covered} nobody tells us
          </span>
        )}
      </div>
      <Load query={coverage} rows={4}>
        {(told) =>
          told.uncovered.length ? (
            <table className="rows plainend">
              <thead className="sr-only">
                <tr>
                  <th>component</th>
                  <th>where</th>
                  <th>why</th>
                  <th>version</th>
                  <th>act</th>
                </tr>
              </thead>
              <tbody>
                {told.uncovered.map((one) => (
                  <tr key={one.product + one.why}>
                    <td className="whitespace-nowrap">
                      <span className="nm">{one.name}</span>
                      <span className="kind">{one.kind}</span>
                    </td>
                    <td>{one.labels.join(", ")}</td>
                    <td className="q">{one.text}</td>
                    <td className="v q">{one.versions.join(", ")}</td>
                    <td className="num whitespace-nowrap">
                      <Act one={one} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          ) : (
            <p className="q py-2">Every component on every site has a feed.</p>
          )
        }
      </Load>
    </section>
  );
}

function Act({ one }: { one: One }) {
  const [site = ""] = one.sites;
  const [kind = "", slug = ""] = one.product.split("/");
  const mark = useMutation({
    mutationFn: () =>
      told(api.PUT("/api/v1/sites/{id}/own/{kind}/{slug}", { params: { path: { id: site, kind, slug } } })),
    onSettled: () => void queries.invalidateQueries(),
  });
  if (one.why === "namesake" || (one.why === "never listed" && one.sites.length === 1))
    return (
      <button className="t tap underline" disabled={mark.isPending} onClick={() => mark.mutate()}>
        Mark as made for this site
      </button>
    );
  const atSite = one.why === "made for this site" || one.why === "copy";
  return (
    <Link className="t tap underline" to={atSite ? `/sites/${site}` : `/products/${one.product}`}>
      {atSite ? "See the site" : "See the product"}
    </Link>
  );
}
