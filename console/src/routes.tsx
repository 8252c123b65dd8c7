/** The pages as parts that are fetched when they are opened. */
import { PAGES } from "./pages";
import { later } from "./parts/later";
import { PageLoading } from "./shell/states";

export const routes = PAGES.map(([path, load]) => ({ path, Page: later(load, <PageLoading what="Opening the page" />) }));
