// The Inspect stage.

import { startPlain } from "./plain.js";

startPlain();
