import type { Standing } from "./layout";

/** A site with nothing to move. */
function Seedling({ tree, base }: { tree: Standing; base: number }) {
  const half = tree.width / 2;
  return <circle className="k" cx={tree.x} cy={base - half / 2} r={Math.max(1.6, half / 2)} />;
}

/** The bar drawn as its state's kin: the top tells the state without colour. */
export function Shape({ tree, base }: { tree: Standing; base: number }) {
  const { x, width, height, state } = tree;
  const half = width / 2;
  const top = base - Math.max(height, 7);
  const body = (from: number) => (
    <rect className="b" x={x - half} y={from} width={width} height={Math.max(0, base - from)} />
  );
  if (tree.moves === 0 && (state === "waiting" || state === "ready" || state === "blocked"))
    return <Seedling tree={tree} base={base} />;
  switch (state) {
    case "clear":
    case "held":
      return <Seedling tree={tree} base={base} />;
    case "blocked":
      return (
        <>
          {body(top + 2)}
          <rect className="k" x={x - half - 2.8} y={top} width={width + 5.6} height="3.4" />
        </>
      );
    case "ready": {
      const point = Math.min(base - top, width * 1.75);
      return (
        <>
          {body(top + point)}
          <path className="k" d={`M${x} ${top}L${x + half} ${top + point + 0.4}H${x - half}Z`} />
        </>
      );
    }
    case "waiting":
      return (
        <>
          {body(top + half)}
          <path
            className="k"
            d={`M${x - half} ${top + half + 1}V${top + half}A${half} ${half} 0 0 1 ${x + half} ${top + half}V${top + half + 1}Z`}
          />
        </>
      );
    case "exposed":
      return (
        <>
          {body(top + 4)}
          <path className="k" d={`M${x} ${top - 12.5}l7.2 7.2-7.2 7.2-7.2-7.2Z`} />
          <circle className="hole" cx={x} cy={top - 5.3} r="2.3" />
        </>
      );
    case "failed":
      return (
        <>
          <path
            className="b"
            d={`M${x - half} ${base}V${top + 7}l${width * 0.3}-4 ${width * 0.25} 5 ${width * 0.45}-4V${base}Z`}
          />
          <path className="x" d={`M${x - 4.2} ${top - 9}l8.4 8.4M${x + 4.2} ${top - 9}l-8.4 8.4`} />
        </>
      );
    case "running": {
      const done = (base - top) * (tree.progress ?? 0.1);
      return (
        <>
          <rect className="f" x={x - half} y={base - done} width={width} height={done} />
          <rect className="b" x={x - half + 0.5} y={top} width={width - 1} height={base - top} />
          <circle className="k" cx={x} cy={top - 4.5} r="1.8" />
        </>
      );
    }
    case "unknown":
      return (
        <rect
          className="b"
          x={x - half + 0.5}
          y={Math.min(top, base - 20)}
          width={Math.max(2, width - 1)}
          height={base - Math.min(top, base - 20)}
        />
      );
  }
}
