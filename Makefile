# The two commands: make demo, make test.
.PHONY: run demo demo-fresh test go-test e2e prove fuzz bench map-speed page-times words kernel-check features-check wiped-check workday kill-check build setup-demo setup-test

DATA ?= var

build:
	go build -buildvcs=auto -o bin/jadetrail ./cmd/jadetrail

setup-demo:
	@scripts/setup.sh demo

setup-test:
	@scripts/setup.sh test

# A shop of one's own, in a folder of its own.
SHOP ?= shop

run: setup-demo build
	@scripts/run.sh $${JADETRAIL_DATA:-$(SHOP)}

demo: setup-demo build
	@JADETRAIL_DATA=$(DATA) exec scripts/with-db.sh $(DATA) scripts/demo.sh

demo-fresh:
	rm -rf $(DATA)
	@$(MAKE) --no-print-directory demo

test: setup-test build
	scripts/test.sh

go-test: setup-test
	scripts/test.sh go

e2e: setup-test build
	scripts/test.sh e2e

# What the tests do with a few random drives and power cuts, with all of them.
prove: setup-test
	JADETRAIL_PROVE=1 go test ./core/plan ./core/route -count=1 -timeout 30m -v -run 'TestFewestBytesRewritten|TestRoutesHold|TestNoPlanRoundTheLead'
	JADETRAIL_PROVE=1 go test ./core/carry -count=1 -timeout 30m -v -run TestMovedAtEveryCut
	JADETRAIL_PROVE=1 go test ./core/run -count=1 -timeout 30m -v -run 'EveryCut|EveryWrite|TestFolderMoved' | grep -E '^(---|ok|FAIL| *[a-z_]+test.go)' | tee /dev/stderr | awk '/taken back/ {n += $$5 + $$9} END {print n " power cuts in whole runs, each finished or taken back"}'
	JADETRAIL_PROVE=1 go test ./core/run -count=1 -timeout 60m -v -run TestTorturedRuns
	JADETRAIL_PROVE=1 go test ./core/run -count=1 -timeout 60m -v -run 'TestOfferedCanBeDone|TestOfferedOnAPC'
	JADETRAIL_PROVE=1 go test ./core/run -count=1 -timeout 2h -v -run 'TestTruth$$'
	JADETRAIL_PROVE=1 scripts/test.sh go ./app/web -count=1 -timeout 60m -v -run 'TestToldOfRuns|TestToldOverDays'
	JADETRAIL_PROVE=1 scripts/test.sh go ./app/web -count=1 -timeout 60m -v -run 'TestCracks|TestNothingLeftInTheShop'
	JADETRAIL_PROVE=1 scripts/test.sh go ./app/web -count=1 -timeout 12h -v -run TestNoPageRoundTheLead
	scripts/plans-check.sh
	scripts/search-check.sh
	scripts/trail-pages.sh

# Five minutes for each parser; the seeds stand in the tests.
fuzz:
	scripts/fuzz.sh 300s

# Speed, each beside the same work done by dd or zstd on this machine.
bench: build
	scripts/bench.sh
	scripts/search-speed.sh

# Frames a second of the map with 60 partitions, 40 columns and 5 futures under the hand.
map-speed: setup-test build
	JADETRAIL_E2E="node scripts/map-speed.mjs" scripts/test.sh e2e

# How long the server takes for each kind of page, beside an empty one.
page-times: setup-test build
	JADETRAIL_E2E="node scripts/page-times.mjs" scripts/test.sh e2e

# What every page of the demo says, without its looks, as one text: words.txt.
words: setup-test build
	JADETRAIL_E2E="node scripts/words.mjs" scripts/test.sh e2e

# A stock Linux kernel in an emulator reads and writes what the program wrote.
kernel-check: build
	scripts/kernel-check.sh

# Files with everything that NTFS knows, through every way; drivers that are not ours judge.
features-check: build
	scripts/features-check.sh

# Drives whose tables are wiped come back, a kernel judging.
wiped-check: build
	scripts/wiped-check.sh

# Six people at once, and the server, the database or the room taken from under them.
workday:
	scripts/workday.sh 200

# Kills the server and the database while a partition of 3 GiB is slid through the interface.
kill-check: setup-test build
	d=$$(mktemp -d) && JADETRAIL_DATA=$$d scripts/with-db.sh $$d node scripts/kill-check.mjs; s=$$?; rm -rf $$d; exit $$s
