import { get, type SpacesAnswer } from "~/api/client";

/** Every movement and spot that a shot uses; `spaces` is the server's hash of what they depend on, in revision `number`. */
export const spacesQuery = (shot: string, number: number, spaces: string) => ({
  queryKey: ["spaces", shot, spaces],
  queryFn: () => get<SpacesAnswer>(`/shots/${shot}/spaces?number=${number}`),
  staleTime: Infinity,
});
