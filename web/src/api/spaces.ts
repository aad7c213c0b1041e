import { answered, api } from "~/api/client";

/** Every movement and spot that a shot uses, spots in the clip's own time where it is shown `filmed`; `spaces` is the server's hash of what they depend on, in revision `number`. */
export const spacesQuery = (shot: string, number: number, spaces: string, filmed: boolean) => ({
  queryKey: ["spaces", shot, spaces, filmed],
  queryFn: () =>
    answered(
      api.GET("/api/shots/{shot_id}/spaces", {
        params: { path: { shot_id: shot }, query: { number, filmed } },
      }),
    ),
  staleTime: Infinity,
});
