import { Component, Suspense } from "react";

/** A part of the console that is loaded late. Where it can't be, it says so; the rest stands. */
export class Late extends Component<{ children: React.ReactNode }, { failed: boolean }> {
  override state = { failed: false };

  static getDerivedStateFromError() {
    return { failed: true };
  }

  override render() {
    if (!this.state.failed) return <Suspense>{this.props.children}</Suspense>;
    return (
      <main id="main" className="page">
        <div className="state-note bad mt-6" role="alert">
          <p>This page can’t be loaded: the service does not answer. Nothing was changed.</p>
          <button className="btn mt-2" onClick={() => window.location.reload()}>
            Ask again
          </button>
        </div>
      </main>
    );
  }
}
