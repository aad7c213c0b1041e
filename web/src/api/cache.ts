import { type InvalidateOptions, type InvalidateQueryFilters, QueryClient } from "@tanstack/react-query";

/**
 * What the server said, kept. What is called out of date is asked for anew even while it is asked for the first time:
 * that answer may have been written before the change.
 */
export class Cache extends QueryClient {
  override async invalidateQueries(
    filters?: InvalidateQueryFilters,
    options?: InvalidateOptions,
  ): Promise<void> {
    // Without an answer so far, the library would take the one that is on its way for a new one.
    await this.cancelQueries({
      ...filters,
      predicate: (query) =>
        query.state.data === undefined &&
        query.state.fetchStatus === "fetching" &&
        (filters?.predicate?.(query) ?? true),
    });
    return super.invalidateQueries(filters, options);
  }
}
