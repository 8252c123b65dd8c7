/** First of all the page's data is asked for, then the console is fetched. */
import "./look.css";
import { askAhead } from "./api/ahead";
import { fetchPage } from "./pages";

askAhead(window.location.pathname, window.location.search);
void import("./main");
fetchPage(window.location.pathname);
