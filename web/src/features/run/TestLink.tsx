import type { ReactNode } from "react";
import { Link } from "react-router";

/** Link to a test, opened at a pane. */
export function TestLink({
  run,
  test,
  pane,
  children,
  className,
  label,
}: {
  run: number;
  test: number;
  pane?: number;
  children: ReactNode;
  className?: string;
  label?: string;
}) {
  return (
    <Link
      className={className}
      aria-label={label}
      to={`/runs/${run}/tests/${test}${pane === undefined ? "" : `?pane=${pane}`}`}
    >
      {children}
    </Link>
  );
}
