#!/usr/bin/env bash
# Bundles the viewer of written 3D scenes and puts it where the program finds it; run it after changing viewer.js.
set -euo pipefail
cd "$(dirname "$0")"
npm install --no-package-lock --no-audit --no-fund --silent
npx esbuild viewer.js --bundle --minify --format=iife --target=es2020 --legal-comments=none --define:global=window --metafile=account.json --outfile=viewer.bundle.js --log-level=warning
out=../../src/innerlamp/app/written/viewer
mkdir -p "$out"
version=$(node -p "require('@kitware/vtk.js/package.json').version" 2>/dev/null || node -p "JSON.parse(require('fs').readFileSync('node_modules/@kitware/vtk.js/package.json')).version")
{ echo "/* Viewer of Inner Lamp scenes, with vtk.js $version (BSD-3-Clause, see LICENSES.txt); source $(sha256sum viewer.js | cut -c1-16) */"; cat viewer.bundle.js; } > "$out/viewer.js"
node licences.mjs account.json "$out/LICENSES.txt"
rm viewer.bundle.js account.json
ls -la "$out"
