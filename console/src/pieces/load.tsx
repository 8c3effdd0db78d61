import type { UseQueryResult } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { clock } from "./time";

/** Rows of true height, shown only when an answer takes its time. */
function Loading({ rows }: { rows: number }) {
  const [late, setLate] = useState(false);
  useEffect(() => {
    const timer = window.setTimeout(() => setLate(true), 300);
    return () => window.clearTimeout(timer);
  }, []);
  if (!late) return null;
  return (
    <div role="status" aria-label="Loading">
      {Array.from({ length: rows }, (_, index) => (
        <div key={index} className="border-b border-line py-2">
          <div className="blank" />
        </div>
      ))}
    </div>
  );
}

/** A query's page: loading, failed with nothing to show, or its data, said to be old if it is. */
export function Load<T>({
  query,
  rows = 8,
  children,
}: {
  query: UseQueryResult<T>;
  rows?: number;
  children: (data: T) => React.ReactNode;
}) {
  if (query.data !== undefined) {
    return (
      <>
        {query.isError && (
          <p className="state-note old" role="alert">
            {query.error.message} What is shown is from {clock(new Date(query.dataUpdatedAt))}; it is
            asked again by itself.
          </p>
        )}
        {children(query.data)}
      </>
    );
  }
  if (query.isError) {
    return (
      <div className="state-note bad" role="alert">
        <p>{query.error.message} Nothing was changed.</p>
        <button className="btn mt-2" onClick={() => void query.refetch()}>
          Ask again
        </button>
      </div>
    );
  }
  return <Loading rows={rows} />;
}
