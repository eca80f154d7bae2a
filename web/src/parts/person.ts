import { createContext } from "react";

/** Who is signed in. */
export const PersonName = createContext("");
