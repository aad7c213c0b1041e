import { get, type SpacesAnswer } from "~/api/client";

/** Every movement and spot that a shot uses, spots in the clip's own time where it is shown `filmed`; `spaces` is the server's hash of what they depend on, in revision `number`. */
export const spacesQuery = (shot: string, number: number, spaces: string, filmed: boolean) => ({
  queryKey: ["spaces", shot, spaces, filmed],
  queryFn: () => get<SpacesAnswer>(`/shots/${shot}/spaces?number=${number}&filmed=${filmed}`),
  staleTime: Infinity,
});
