#!/usr/bin/env bash
# Copies what the pages ship with from the npm packages in package.json into
# app/web/static/vendor, where it is committed. Run it after changing a version.
set -euo pipefail
cd "$(dirname "$0")/.."
out=app/web/static/vendor
mkdir -p "$out"
# Of Bulma what the pages use.
npm run --silent style -- --output "$out/bulma.css"
for w in 400 600; do
  cp "node_modules/@fontsource/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-$w-normal.woff2" "$out/next-$w.woff2"
  cp "node_modules/@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-$w-normal.woff2" "$out/mono-$w.woff2"
done
for w in 400 600; do # the PDF reports take TrueType fonts
  go run ./scripts/ttf "node_modules/@fontsource/atkinson-hyperlegible-next/files/atkinson-hyperlegible-next-latin-$w-normal.woff" "app/report/fonts/next-$w.ttf"
done
go run ./scripts/ttf node_modules/@fontsource/atkinson-hyperlegible-mono/files/atkinson-hyperlegible-mono-latin-400-normal.woff app/report/fonts/mono-400.ttf
cp node_modules/@fontsource/atkinson-hyperlegible-next/LICENSE app/report/fonts/LICENSE
cp node_modules/@fontsource/atkinson-hyperlegible-next/LICENSE "$out/LICENSE.fonts"
cp node_modules/bulma/LICENSE "$out/LICENSE.bulma"
cp node_modules/@tabler/icons/LICENSE "$out/LICENSE.icons" 2>/dev/null || true
# The icons as one sprite.
{
  echo '<svg xmlns="http://www.w3.org/2000/svg">'
  for i in check x arrow-right lock search logout stack-2 folder file link download; do
    sed -n '/<path/p' "node_modules/@tabler/icons/icons/outline/$i.svg" |
      { echo "<symbol id=\"$i\" viewBox=\"0 0 24 24\" fill=\"none\" stroke=\"currentColor\" stroke-width=\"2\" stroke-linecap=\"round\" stroke-linejoin=\"round\">"; cat; echo '</symbol>'; }
  done
  echo '</svg>'
} >"$out/icons.svg"
