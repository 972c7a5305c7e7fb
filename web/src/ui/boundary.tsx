// Boundary keeps a mistake in one page from taking the others with it.
import { Component, type ErrorInfo, type ReactNode } from "react";
import { words } from "../api";
import { Button, Note } from "./ui";

export class Boundary extends Component<{ children: ReactNode }, { error?: unknown }> {
  override state: { error?: unknown } = {};

  static getDerivedStateFromError(error: unknown) {
    return { error };
  }

  override componentDidCatch(error: unknown, info: ErrorInfo) {
    console.error(error, info.componentStack);
  }

  override render() {
    if (this.state.error === undefined) return this.props.children;
    return (
      <div className="flex flex-col items-start gap-3 p-6">
        <Note bad>This page failed: {words(this.state.error)}. Nothing in the service has changed because of it.</Note>
        <Button tone="ink" onClick={() => this.setState({ error: undefined })}>
          Show it again
        </Button>
      </div>
    );
  }
}
