import { api, list } from "../../api/client";

/** All boards, by name. */
export const boardsQuery = { queryKey: ["boards"], queryFn: () => list(api.GET("/api/v1/boards")) };
