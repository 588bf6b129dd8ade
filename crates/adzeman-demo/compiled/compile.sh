#!/usr/bin/env bash
# Compiles keeper.ts to keeper.lua with a source map in it, and once more with the map beside it. What comes out is kept in the
# repository; building and testing need neither this nor a network.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -r "$work"' EXIT
cd "$work"
npm init --yes >/dev/null
npm install --silent typescript-to-lua@1.37.1 typescript@6.0.2 @typescript-to-lua/language-extensions@1.19.0 lua-types@2.14.1
cp "$here/keeper.ts" .
compile() {
  cat > tsconfig.json <<JSON
{
  "compilerOptions": {
    "target": "ESNext", "lib": ["ESNext"], "strict": true, "moduleResolution": "bundler", "module": "ESNext",
    "types": ["lua-types/5.4", "@typescript-to-lua/language-extensions"], $1
  },
  "tstl": { "luaTarget": "5.4", "luaLibImport": "inline", "noHeader": true },
  "files": ["keeper.ts"]
}
JSON
  npx tstl
}
compile '"inlineSourceMap": true, "inlineSources": true'
# The compiler leaves the text of keeper.ts out of the map; this puts it in.
node -e '
  const fs = require("fs");
  const script = fs.readFileSync("keeper.lua", "utf8");
  const [before, map] = script.split(/(?<=sourceMappingURL=data:application\/json;base64,)/);
  const held = JSON.parse(Buffer.from(map.trim(), "base64"));
  held.sourcesContent = [fs.readFileSync("keeper.ts", "utf8")];
  fs.writeFileSync("keeper.lua", before + Buffer.from(JSON.stringify(held)).toString("base64") + "\n");
'
cp keeper.lua "$here/keeper.lua"
compile '"sourceMap": true, "inlineSources": true'
cp keeper.lua "$here/keeper-beside.lua"
cp keeper.lua.map "$here/keeper-beside.lua.map"
