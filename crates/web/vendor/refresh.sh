#!/usr/bin/env bash
# Fetches the front-end files at fixed versions from the npm registry into this folder.
set -euo pipefail
here=$(cd "$(dirname "$0")" && pwd)
work=$(mktemp -d)
trap 'rm -rf "$work"' EXIT
cd "$work"
npm init -y >/dev/null
npm install --silent ol@10.11.0 htmx.org@2.0.11 @alpinejs/csp@3.17.4 bootstrap@5.3.9 \
    @fontsource-variable/source-sans-3@5 axe-core@4.14.1 three@0.170.0
m=node_modules
cp $m/ol/dist/ol.js $m/ol/ol.css "$here/"
cp $m/htmx.org/dist/htmx.min.js "$here/"
cp $m/@alpinejs/csp/dist/cdn.min.js "$here/alpine-csp.min.js"
cp $m/bootstrap/dist/css/bootstrap.min.css "$here/"
for part in latin latin-ext; do
    cp $m/@fontsource-variable/source-sans-3/files/source-sans-3-$part-wght-normal.woff2 "$here/"
done
mkdir -p "$here/licences" "$here/test"
cp $m/axe-core/axe.min.js "$here/test/"
cp $m/three/build/three.module.min.js "$here/"
# Pages have no map of imports: the name of the library becomes its file.
sed "s#from 'three'#from './three.module.min.js'#" $m/three/examples/jsm/controls/OrbitControls.js \
    >"$here/three-orbit-controls.js"
cp $m/three/LICENSE "$here/licences/three.txt"
cp $m/ol/LICENSE.md "$here/licences/openlayers.txt"
cp $m/htmx.org/LICENSE "$here/licences/htmx.txt"
cp $m/bootstrap/LICENSE "$here/licences/bootstrap.txt"
cp $m/@fontsource-variable/source-sans-3/LICENSE "$here/licences/source-sans-3.txt"
cp $m/axe-core/LICENSE "$here/licences/axe-core.txt"
sed -i 's#//[#@] sourceMappingURL=.*##; s#/\*[#@] sourceMappingURL=.*\*/##' "$here"/*.js "$here"/*.css
