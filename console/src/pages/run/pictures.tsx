import type { RunStory, Schemas } from "../../api/client";

type Pair = Schemas["PicturePair"];

/** Pages before and after, side by side; what differs is dashed. */
export function Pictures({ story }: { story: RunStory }) {
  if (story.pictures.length === 0) return null;
  const pages = [...new Set(story.pictures.map((pair) => pair.page))];
  return (
    <section aria-label="Pictures" className="pt-4">
      <h2 className="pb-1">
        Pictures <span className="qq">before the run, and after; wide and narrow</span>
      </h2>
      {pages.map((page) => {
        const pairs = story.pictures.filter((pair) => pair.page === page);
        return (
          <figure key={page} className="pictures">
            <figcaption>
              <b>{page}</b> {differs(pairs)}
            </figcaption>
            <div className="pairs">
              {pairs.map((pair) => (
                <Taken key={`before ${pair.width}`} pair={pair} src={pair.before} when="before" />
              ))}
              {pairs.map(
                (pair) =>
                  pair.after && (
                    <Taken key={`after ${pair.width}`} pair={pair} src={pair.after} when="after" />
                  ),
              )}
            </div>
          </figure>
        );
      })}
    </section>
  );
}

/** What there is to say of a page's pictures. */
export function differs(pairs: readonly Pair[]): string {
  if (pairs.every((pair) => !pair.after)) return "no picture after the run yet";
  const boxes = pairs.reduce((sum, pair) => sum + pair.boxes.length, 0);
  const lively = pairs.some((pair) => pair.lively.length > 0);
  const alive = lively ? "; what changes by itself is marked apart" : "";
  if (boxes === 0) return `as before${alive}`;
  return `differs in ${boxes} ${boxes === 1 ? "place" : "places"}${alive}`;
}

function Taken({ pair, src, when }: { pair: Pair; src: string; when: "before" | "after" }) {
  const marked = when === "after" ? pair.boxes : [];
  return (
    <a
      href={src}
      target="_blank"
      rel="noreferrer"
      className="taken"
      style={{ flexGrow: pair.width, aspectRatio: `${pair.width} / ${Math.min(pair.height, 2 * pair.width)}` }}
    >
      <img src={src} alt={`${pair.page}, ${pair.width} pixels wide, ${when} the run`} loading="lazy" />
      {marked.map((box) => (
        <i key={box.join(" ")} className="box" style={at(box, pair)} />
      ))}
      {pair.lively.map((box) => (
        <i key={box.join(" ")} className="box lively" style={at(box, pair)} />
      ))}
    </a>
  );
}

/** A box over a picture that is drawn as wide as its frame. */
function at([left, top, width, height]: Pair["boxes"][number], pair: Pair) {
  const tall = Math.min(pair.height, 2 * pair.width);
  return {
    left: `${(100 * left) / pair.width}%`,
    top: `${(100 * top) / tall}%`,
    width: `${(100 * width) / pair.width}%`,
    height: `${(100 * height) / tall}%`,
  };
}
