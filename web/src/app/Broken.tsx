import { Component, type ReactNode } from "react";
import { Button } from "../ui/parts";

/** What stands in place of a page that could not be drawn, until another is chosen. */
export class Broken extends Component<
  { page: string; children: ReactNode },
  { error: Error | null; page: string }
> {
  state = { error: null as Error | null, page: this.props.page };

  static getDerivedStateFromError(error: Error) {
    return { error };
  }

  static getDerivedStateFromProps(props: { page: string }, state: { error: Error | null; page: string }) {
    return props.page === state.page ? null : { error: null, page: props.page };
  }

  render() {
    if (!this.state.error) return this.props.children;
    return (
      <div role="alert" className="grid justify-items-start gap-3 rounded border border-failed p-4">
        <p>
          This page could not be drawn: {this.state.error.message}. The lab goes on; this is a fault of the
          console.
        </p>
        <Button
          onClick={() => {
            location.reload();
          }}
        >
          Draw it again
        </Button>
      </div>
    );
  }
}
