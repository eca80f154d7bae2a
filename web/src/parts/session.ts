import { api, get, rememberCsrfCookie } from "../api/client";
import { setFleetZone } from "./zones";

/** Who is signed in, and what the page has to know of this server. */
export const sessionQuery = {
  queryKey: ["session"],
  queryFn: async () => {
    const found = await get(api.GET("/api/v1/session"));
    rememberCsrfCookie(found.csrf_cookie);
    if (found.zone) setFleetZone(found.zone);
    return found;
  },
  staleTime: Number.POSITIVE_INFINITY,
};
