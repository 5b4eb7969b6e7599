#!/usr/bin/env bash
# Speed, each beside the same work done by plain tools on this machine, in the same
# run: scripts/bench.sh
set -euo pipefail
cd "$(dirname "$0")/.."
work=$(mktemp -d "${BENCH_DIR:-/tmp}/jadetrail-bench-XXXXXX"); trap 'rm -rf "$work"' EXIT
now() { date +%s.%N; }
took() { awk -v a="$1" -v b="$2" 'BEGIN {printf "%.3f", b - a}'; }
drop() { sync; if [ -w /proc/sys/vm/drop_caches ]; then echo 3 >/proc/sys/vm/drop_caches; fi; }

go build -o "$work/make" ./scripts/benchdrive
"$work/make" inspect "$work/two-tb.img" >"$work/ranges"
echo "Inspect of a 2 TB drive with 20 partitions, against reading its tables and bitmaps with dd ($(awk '{n += $2} END {printf "%.1f MiB", n / 1048576}' "$work/ranges")):"
for pass in 1 2 3; do
  a=$(now)
  while read -r off len; do dd if="$work/two-tb.img" of=/dev/null bs=1M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none; done <"$work/ranges"
  b=$(now)
  memory=$( { /usr/bin/env bash -c 'exec "$@"' _ bin/jadetrail inspect --json "$work/two-tb.img" >/dev/null & p=$!; peak=0; while read -r _ k _ < <(grep VmHWM /proc/$p/status 2>/dev/null); do peak=$k; done; wait $p; echo "$peak"; } )
  c=$(now)
  bin/jadetrail inspect --json "$work/two-tb.img" >/dev/null
  d=$(now)
  echo "  dd $(took "$a" "$b") s, inspect $(took "$c" "$d") s, $(awk -v d="$(took "$a" "$b")" -v i="$(took "$c" "$d")" 'BEGIN {printf "%+.3f s", i - d}'), peak memory $((memory / 1024)) MiB"
done

"$work/make" grow "$work/grow.img" >"$work/ranges"
echo "Growing 138 GiB by 80 GiB, against reading the table, the volume's table of files and its bitmap with dd:"
a=$(now)
while read -r off len; do dd if="$work/grow.img" of=/dev/null bs=1M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none; done <"$work/ranges"
b=$(now)
echo '{"version":1,"steps":[{"do":"grow","partition":"1","by":"80 GiB"}]}' >"$work/plan.json"
c=$(now)
bin/jadetrail carry-out --plan "$work/plan.json" "$work/grow.img" >/dev/null
d=$(now)
echo "  dd $(took "$a" "$b") s, carry-out with record, journal, rehearsal, proof and trail $(took "$c" "$d") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%+.3f s", y - x}')"

"$work/make" look "$work/look.img" >"$work/ranges"
peak() { # asks seldom, and beside: it must neither take a processor itself nor be waited for
  "$@" >/dev/null & p=$!
  while read -r _ k _ < <(grep VmHWM /proc/$p/status 2>/dev/null); do echo $((k / 1024)) >"$work/peak"; sleep 0.05; done & w=$!
  wait $p || true
  kill $w 2>/dev/null || true
  cat "$work/peak"
}
echo "A volume with 200 000 files summarised, against cat of its table of files:"
for pass in 1 2 3; do
  a=$(now)
  while read -r what off len; do [ "$what" != table ] || dd if="$work/look.img" of=/dev/null bs=1M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none; done <"$work/ranges"
  b=$(now)
  "$work/make" summary "$work/look.img" >/dev/null
  c=$(now)
  echo "  table of files $(took "$a" "$b") s, summary $(took "$b" "$c") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$b" "$c")" 'BEGIN {printf "%+.3f s beyond three times that", y - 3 * x}'), peak memory $(peak "$work/make" summary "$work/look.img") MiB"
done
echo "The first page of a folder with 50 000 entries: $("$work/make" page "$work/look.img")"
echo "Reading a file of 1 GiB, against cat of the same bytes:"
for pass in 1 2 3; do
  a=$(now)
  while read -r what off len; do [ "$what" != large ] || dd if="$work/look.img" bs=1M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none | cat >/dev/null; done <"$work/ranges"
  b=$(now)
  while read -r what off len; do [ "$what" != large ] || dd if="$work/look.img" of=/dev/null bs=1M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none; done <"$work/ranges"
  c=$(now)
  "$work/make" read "$work/look.img"
  d=$(now)
  echo "  through a pipe $(took "$a" "$b") s, dd $(took "$b" "$c") s, ours $(took "$c" "$d") s, $(awk -v x="$(took "$b" "$c")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%.2f of the rate of dd", x / y}')"
done
rm -f "$work/look.img"

mkdir "$work/damaged"
"$work/make" damaged "$work/damaged" >"$work/list"
longest=0 largest=0
while read -r image; do
  a=$(now); bin/jadetrail check "$image" >/dev/null 2>&1 || true; b=$(now)
  longest=$(awk -v l="$longest" -v t="$(took "$a" "$b")" 'BEGIN {print (t > l) ? t : l}')
  m=$(peak bash -c 'exec bin/jadetrail check "$0" 2>/dev/null' "$image")
  [ "$m" -le "$largest" ] || largest=$m
done <"$work/list"
echo "Checking $(wc -l <"$work/list") damaged images: the longest took $longest s, the most memory was $largest MiB."
rm -rf "$work/damaged"

"$work/make" backup "$work/backup.img" >"$work/ranges"
read -r off len <"$work/ranges"
dd if="$work/backup.img" of="$work/raw" bs=4M iflag=skip_bytes,count_bytes skip="$off" count="$len" status=none
# alone: how long this disk by itself takes for 2 GiB, past the page cache: to write them durably, and to read them back.
alone() {
  local a b c
  drop; cat "$work/raw" >/dev/null
  a=$(now); dd if="$work/raw" of="$work/plain" bs=32M oflag=direct conv=fsync status=none
  b=$(now); dd if="$work/plain" of=/dev/null bs=4M iflag=direct status=none; c=$(now)
  rm -f "$work/plain"
  took "$a" "$b" >"$work/alone-write"; took "$b" "$c" >"$work/alone-read"
}
alone
echo "Of itself this disk takes $(<"$work/alone-write") s to write 2 GiB durably and $(<"$work/alone-read") s to read them past the page cache."
echo "Image backup with its verification of 2 GiB that do not compress, against zstd -1 -T2 to a file and zstd -d of it to nowhere:"
for pass in 1 2 3; do
  drop; cat "$work/raw" >/dev/null
  a=$(now)
  zstd -1 -T2 -q -f "$work/raw" -o "$work/raw.zst"
  zstd -d -q -c "$work/raw.zst" >/dev/null
  b=$(now)
  rm -f "$work/raw.zst"; drop; dd if="$work/backup.img" of=/dev/null bs=4M status=none iflag=skip_bytes,count_bytes skip="$off" count="$len"
  c=$(now)
  bin/jadetrail back-up --partition 1 --kind image --shelf "$work/shelf" "$work/backup.img" >/dev/null
  d=$(now)
  rm -rf "$work/shelf"
  echo "  zstd $(took "$a" "$b") s, backup $(took "$c" "$d") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%.2f of the rate", x / y}')"
done

# parts RUN CP: how a run was at its parts, beside a copy that took so long.
parts() {
  node -e '
    const r = JSON.parse(require("fs").readFileSync(process.argv[1])), t = r.seconds, cp = Number(process.argv[2]), all = t.prepare + t.write + t.read_back + t.prove;
    console.log(`writing ${t.write.toFixed(2)} s, ${(cp / t.write).toFixed(2)} of the rate; reading back ${t.read_back.toFixed(2)} s; before and after ${(t.prepare + t.prove).toFixed(2)} s; all together ${(cp / all).toFixed(2)} of the rate; ${(r.bytes_written / 2 ** 20).toFixed(1)} MiB written for ${(r.bytes_rewritten / 2 ** 20).toFixed(1)}`);
  ' "$1" "$2"
}
echo "Sliding a partition with 2 GiB that do not compress, each piece read back and compared, against cp --sparse=always of it; both synced:"
for by in 64 64 64 200 200; do
  rm -rf "$work/slide.img"*; cp --sparse=always "$work/backup.img" "$work/slide.img"; drop; cat "$work/raw" >/dev/null
  a=$(now); cp --sparse=always "$work/raw" "$work/raw.copy"; sync -f "$work/raw.copy"; b=$(now)
  rm -f "$work/raw.copy"; alone; drop; dd if="$work/slide.img" of=/dev/null bs=4M status=none
  echo "{\"version\": 1, \"steps\": [{\"do\": \"slide\", \"partition\": \"1\", \"by\": \"$by MiB\"}]}" >"$work/plan.json"
  bin/jadetrail carry-out --json --plan "$work/plan.json" "$work/slide.img" >"$work/slid"
  bin/jadetrail check "$work/slide.img" >/dev/null
  echo "  by $by MiB: cp $(took "$a" "$b") s; the disk alone, written and read back, $(awk -v c="$(took "$a" "$b")" -v w="$(<"$work/alone-write")" -v r="$(<"$work/alone-read")" 'BEGIN {printf "%.2f s, %.2f of the rate", w + r, c / (w + r)}'); $(parts "$work/slid" "$(took "$a" "$b")"), peak memory $(peak bin/jadetrail carry-out --plan <(sed 's/"by": "/&-/' "$work/plan.json") "$work/slide.img") MiB"
done
rm -rf "$work/slide.img"*

"$work/make" give "$work/give.img" >/dev/null
echo "A volume gives up its second half, in which 2 GiB lie that must move, against cp --sparse=always of as much; both synced:"
for pass in 1 2 3; do
  rm -rf "$work/slide.img"*; cp --sparse=always "$work/give.img" "$work/slide.img"; drop; cat "$work/raw" >/dev/null
  a=$(now); cp --sparse=always "$work/raw" "$work/raw.copy"; sync -f "$work/raw.copy"; b=$(now)
  rm -f "$work/raw.copy"; drop; dd if="$work/slide.img" of=/dev/null bs=4M status=none
  echo '{"version": 1, "steps": [{"do": "shrink", "partition": "1", "to": "2300 MiB"}]}' >"$work/plan.json"
  bin/jadetrail carry-out --json --plan "$work/plan.json" "$work/slide.img" >"$work/slid"
  bin/jadetrail check "$work/slide.img" >/dev/null
  echo "  cp $(took "$a" "$b") s, $(parts "$work/slid" "$(took "$a" "$b")")"
done
rm -rf "$work/slide.img"* "$work/give.img"

JADETRAIL_DATA=$work/demo bin/jadetrail demo >/dev/null
image=$work/demo/drives/tidewater-reception.img
echo '{"version": 1, "steps": [{"do": "slide", "partition": "6", "by": "60 GiB"}, {"do": "slide", "partition": "5", "by": "50 GiB"}]}' >"$work/plan.json"
sync -f "$image"; before=$(du -k "$image" | cut -f1)
bin/jadetrail carry-out --json --plan "$work/plan.json" "$image" >"$work/slid"
sync -f "$image"
echo "Sliding $(node -e 'console.log((JSON.parse(require("fs").readFileSync(process.argv[1])).bytes_rewritten / 2 ** 30).toFixed(1))' "$work/slid") GiB of clusters that are reserved and empty but for a little: the image takes $(du -k "$image" | cut -f1) KiB, before $before KiB."
rm -rf "$work/demo"

"$work/make" files "$work/files.img"
# Once to have the files in a folder, for tar.
id=$(bin/jadetrail back-up --partition 1 --kind files --json --shelf "$work/shelf" "$work/files.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
bin/jadetrail restore --backup "$id" --shelf "$work/shelf" --trail "$work/t.jsonl" --to "$work/folder" "$work/files.img"
rm -rf "$work/shelf"
warm() { drop; find "$work/folder" -type f -print0 | xargs -0 cat >/dev/null; dd if="$work/files.img" of=/dev/null bs=4M status=none; }
echo "Backup of the files with its verification, against tar c | zstd -1 -T2 of the same in a folder ($(find "$work/folder" -type f | wc -l) files, $(du -sh --apparent-size "$work/folder" | cut -f1)):"
for pass in 1 2 3; do
  warm
  a=$(now); tar c -C "$work/folder" . | zstd -1 -T2 -q -o "$work/f.tar.zst"; b=$(now)
  rm -f "$work/f.tar.zst"; warm
  c=$(now); memory=$(peak bin/jadetrail back-up --partition 1 --kind files --shelf "$work/shelf" "$work/files.img"); d=$(now)
  rm -rf "$work/shelf"
  echo "  tar and zstd $(took "$a" "$b") s, backup $(took "$c" "$d") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%.2f of the rate", x / y}'), peak memory $memory MiB"
done
id=$(bin/jadetrail back-up --partition 1 --kind files --json --folder small --shelf "$work/shelf" "$work/files.img" | sed 's/.*"backup":"\([^"]*\)".*/\1/')
tar cf "$work/small.tar" -C "$work/folder" small
cat >"$work/plan.json" <<P
{"version": 1, "steps": [{"do": "create", "start_lba": 0, "size": "3 GiB", "type": "basic", "format": "ntfs", "label": "New", "as": "new"}, {"do": "copy-back", "partition": "new", "backup": "$id"}]}
P
echo "Restoring 20 000 small files into a new volume, each compared, against tar x of them with a sync:"
for pass in 1 2 3; do
  cp --sparse=always "$work/files.img" "$work/copy.img"; drop; cat "$work/small.tar" >/dev/null; cat "$work"/shelf/*/* >/dev/null
  mkdir "$work/out"
  a=$(now); tar xf "$work/small.tar" -C "$work/out"; sync -f "$work/out"; b=$(now)
  rm -rf "$work/out"; sync
  c=$(now); memory=$(peak bin/jadetrail carry-out --plan "$work/plan.json" --shelf "$work/shelf" "$work/copy.img"); d=$(now)
  bin/jadetrail check "$work/copy.img" >/dev/null
  rm -rf "$work/copy.img"*
  echo "  tar $(took "$a" "$b") s, restore $(took "$c" "$d") s, $(awk -v x="$(took "$a" "$b")" -v y="$(took "$c" "$d")" 'BEGIN {printf "%.2f times as long", y / x}'), peak memory $memory MiB"
done
