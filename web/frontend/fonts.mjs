// Copies the fonts that the style sheet names next to it.
import { copyFileSync, mkdirSync } from "node:fs";

const target = "web/static_built/fonts";
mkdirSync(target, { recursive: true });
const files = {
  "archivo.woff2": "@fontsource-variable/archivo/files/archivo-latin-standard-normal.woff2",
  "mono-400.woff2": "@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-400-normal.woff2",
  "mono-500.woff2": "@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-500-normal.woff2",
  "mono-700.woff2": "@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-700-normal.woff2",
};
for (const [name, source] of Object.entries(files)) copyFileSync(`node_modules/${source}`, `${target}/${name}`);
