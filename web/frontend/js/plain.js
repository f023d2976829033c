// Pages of a job that have no Board.

import { startPlain } from "./resting.js";

startPlain();
