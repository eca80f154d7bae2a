import { api, list } from "../api/client";

/** The routes that notices are sent by, with how they fare. */
export const routesQuery = {
  queryKey: ["routes"],
  queryFn: () => list(api.GET("/api/v1/routes")),
};
