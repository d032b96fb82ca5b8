# `make demo` and `make test` do all their set-up on a Debian machine with Go,
# Node.js, npm and root.

# What is built for one thing is there for the next only if it is built the same way.
export CGO_ENABLED := 0
export GOFLAGS := $(GOFLAGS) -trimpath
GO := go

# Debian's packages: disk tools for the demo and the tests, the browser for the
# console's test, a reference peer and network namespaces for multicast, and a domain
# controller, which is installed without being started (RUNLEVEL).
PACKAGES := fdisk mount dosfstools mtools e2fsprogs ntfs-3g exfatprogs exfat-fuse xfsprogs btrfs-progs \
	lvm2 cryptsetup-bin qemu-utils xorriso p7zip-full zstd chromium fonts-dejavu-core \
	libnorm-dev g++ iproute2 nftables b3sum cpio xz-utils grub-common curl \
	zip gcab genisoimage kmod libxml2-utils openssh-client passwd openssl \
	samba samba-ad-provision samba-dsdb-modules samba-vfs-modules samba-common-bin winbind krb5-user adcli libhivex-bin \
	desktop-file-utils slapd ldap-utils sbsigntool docker-registry help2man lintian
TOOLS := sfdisk losetup mkfs.vfat mcopy mkfs.ext4 debugfs mkfs.ntfs ntfs-3g mkfs.exfat mount.exfat-fuse mkfs.xfs mkfs.btrfs \
	pvcreate cryptsetup qemu-img xorriso 7z zstd chromium g++ ip tc nft b3sum cpio xz grub-script-check curl \
	zip gcab genisoimage depmod xmllint ssh-keygen pwck openssl samba-tool net adcli kinit hivexsh desktop-file-validate slapd ldapmodify sbsign docker-registry help2man lintian

.PHONY: demo test tests race lab build package setup console check fuzz bench bench-slabs bench-versions bench-pack bench-multicast bench-outposts bench-stores bench-drivers bench-boot bench-scale bench-console bench-terabytes bench-records bench-soak screenshots reference interface clean

demo: setup build
	./bin/jugate demo

# Tests write disks and sync them all the time; in memory, where there is enough
# of it, that does not wait for this machine's own disk.
SCRATCH := $(shell [ "$$(df --output=avail -m /dev/shm 2>/dev/null | tail -n 1)" -gt 6000 ] 2>/dev/null && echo /dev/shm || echo /tmp)

# SQLite is C that was translated to Go; compression and digests are other people's, too, and pass over every byte many times. Races are
# not looked for inside them, nor is the arithmetic with pointers of what they call looked at: that took most of the time. (Packages that
# use atomic values cannot be left out: the linker may take their copy of a generic function for everybody's.)
ARITHMETIC := modernc.org/sqlite/lib github.com/klauspost/... github.com/zeebo/blake3/... golang.org/x/crypto/argon2 golang.org/x/crypto/blake2b jugate/core/likeness
UNCHECKED := "-gcflags=modernc.org/...=-d=checkptr=0" $(foreach it,$(ARITHMETIC),"-gcflags=$(it)=-race=false -d=checkptr=0")

# All but the lab. The tests of the service and of the console take longest, and wait much of the time: they begin first, side by side.
PLACES = $(filter-out ./lab,$(patsubst jugate%,.%,$(shell $(GO) list ./...)))
# Where there are goroutines, locks or channels, and where tests start whole services.
AT_ONCE = $(filter $(PLACES),$(shell grep -lrP --include='*.go' '\bgo func|\bgo [a-zA-Z.]+\x28|\.Go\x28|^\t"sync(/atomic)?"$$|\bchan |"jugate/(service|agent|demo|sim|cli)"' . | grep -v node_modules | xargs -n 1 dirname | sort -u))
# Where races are not looked for: tests of whole disks, and the browser's. Tests of the service run the same code under the race detector.
NOT_RACED := ./core/restore ./core/bundle ./core/vmdisk ./core/fileview ./console
# Those of AT_ONCE that do without SQLite: to build that for the race detector takes minutes.
LIGHT = $(filter-out $(NOT_RACED),$(filter $(AT_ONCE),$(patsubst jugate%.test,.%,$(shell $(GO) list -test -f '{{.ImportPath}} {{.Deps}}' ./... | grep -v modernc.org/sqlite | grep -o '^jugate[^ ]*\.test '))))

# Side by side, as each half waits much of the time: for downloads, disks and clocks.
test:
	$(MAKE) -j 2 setup build
	$(MAKE) -j 2 check tests

tests:
	TMPDIR=$(SCRATCH) $(GO) test -p 3 -parallel 4 -timeout 40m ./service ./console $(filter-out ./service ./console $(LIGHT),$(PLACES))
	CGO_ENABLED=1 TMPDIR=$(SCRATCH) $(GO) test -race $(UNCHECKED) -timeout 20m $(LIGHT)

# The race detector on whole services, too. It takes too long for .ci/run: run it before each submission.
race: setup build
	CGO_ENABLED=1 TMPDIR=$(SCRATCH) $(GO) test -race $(UNCHECKED) -p 3 -parallel 4 -timeout 40m ./service $(filter-out ./service $(NOT_RACED),$(AT_ONCE))

# Real firmware in network namespaces, in QEMU. What it needs is got by lab/prepare;
# logs and screenshots stay in .lab/kept.
lab: setup
	@lab/prepare .lab || echo "the lab's packages are not to be had here; its tests are skipped"
	JUGATE_LAB_ROOT=$(CURDIR)/.lab/root $(GO) test -count=1 -v -run Debian ./core/driver
	JUGATE_LAB_ROOT=$(CURDIR)/.lab/root JUGATE_LAB_KEEP=$(CURDIR)/.lab/kept TMPDIR=$(SCRATCH) $(GO) test -count=1 -v -parallel 2 -timeout 60m ./lab

# The version is that of the tag; VERSION=0.6.0 says it where there is no checkout.
STAMP = $(if $(VERSION),-ldflags '-s -w -X jugate/core/version.stamped=$(VERSION)',-ldflags '-s -w' $(shell git rev-parse HEAD >/dev/null 2>&1 && echo -buildvcs=true))

build: console
	$(GO) build $(STAMP) -o bin/ ./cmd/jugate ./cmd/jugate-agent ./cmd/jugate-outpost

# Debian packages and a tarball, in bin/packages.
package: setup build
	cd tools && $(GO) build -o ../bin/ github.com/goreleaser/nfpm/v2/cmd/nfpm ./bill
	packaging/make
	lintian --info --fail-on error,warning bin/packages/*.deb

check: console/src/api/schema.gen.ts tools/node_modules/.made
	$(GO) vet ./...
	cd tools && $(GO) build -o ../bin/ honnef.co/go/tools/cmd/staticcheck
	bin/staticcheck ./...
	cd tools && $(GO) vet ./... && $(GO) test ./...
	cd console && npm run --silent check
	gzip -dc service/web/testdata/openapi.json.gz > bin/openapi.json
	cd tools && $(GO) build -o ../bin/ github.com/oasdiff/oasdiff
	bin/oasdiff breaking bin/openapi.json console/openapi.json --fail-on ERR
	cd tools && npx --no spectral lint ../console/openapi.json --ruleset spectral.yaml --fail-severity hint --quiet
	cd tools && REDOCLY_TELEMETRY=off REDOCLY_SUPPRESS_UPDATE_NOTICE=true npx --no redocly lint ../console/openapi.json --config redocly.yaml --max-problems 20

tools/node_modules/.made: tools/package-lock.json
	cd tools && npm ci --silent
	touch $@

# Installs what is missing, and nothing when nothing is; and builds the object store that tests use, which is a module of its own.
setup:
	@missing=; for t in $(TOOLS); do PATH="$$PATH:/usr/sbin:/sbin" command -v $$t >/dev/null || missing="$$missing $$t"; done; \
	[ -e /usr/include/normApi.h ] || missing="$$missing normApi.h"; \
	if [ -n "$$missing" ]; then \
		echo "installing Debian packages for:$$missing"; \
		apt-get update -qq && RUNLEVEL=1 DEBIAN_FRONTEND=noninteractive apt-get install -qq -y --no-install-recommends $(PACKAGES) >/dev/null; \
	fi
	@cd lab/s3 && $(GO) build -ldflags '-s -w' -o ../../bin/ github.com/versity/versitygw/cmd/versitygw

CONSOLE_SOURCES := $(shell find console/src console/public console/*.html console/*.json console/*.ts -type f ! -name '*.gen.ts' ! -name openapi.json 2>/dev/null)

console: console/dist/index.html

console/node_modules/.made: console/package-lock.json
	cd console && npm ci --silent
	touch $@

# The types of the console come from the OpenAPI document, which comes from the
# types in api/.
console/src/api/schema.gen.ts: console/node_modules/.made $(wildcard api/*.go service/web/*.go)
	$(GO) run ./cmd/jugate openapi > console/openapi.json
	cd console && npm run --silent types

console/dist/index.html: console/src/api/schema.gen.ts $(CONSOLE_SOURCES)
	rm -rf console/dist/assets
	cd console && npm run --silent build

FUZZ_TIME := 30s
fuzz:
	@for f in $$(grep -rho --include='*_test.go' '^func Fuzz[A-Za-z0-9]*' core outpost | sed 's/func //' | sort -u); do \
		for p in $$(grep -rl --include='*_test.go' "^func $$f(" core outpost | xargs -n1 dirname | sort -u); do \
			out=$$($(GO) test ./$$p -run '^$$' -fuzz "^$$f$$" -fuzztime $(FUZZ_TIME) -fuzzminimizetime 20x 2>&1) || { echo "$$out"; exit 1; }; \
			echo "$$p $$f: $$(echo "$$out" | grep -o 'execs: [0-9]*' | tail -1), $$(echo "$$out" | tail -1)"; \
		done; \
	done

# Measures capture and restore beside ordinary tools, on a disk of 4 GiB; it needs
# root, about 20 GiB in BENCH_DIR, and some minutes on a machine that does nothing
# else.
BENCH_DIR := /var/tmp
bench: setup
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(BENCH_DIR) disk

# What the next version of an image costs: a month of a Debian's changes in the store, beside
# zstd --patch-from (it needs Debian's archives and debootstrap), and the wire to a room that has
# the last version.
bench-versions: setup build
	lab/prepare .lab
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(BENCH_DIR) month
	bin/bench -dir $(BENCH_DIR) next

# Packs many small files, and a gigabyte of programs, beside tar and zstd.
bench-pack: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(BENCH_DIR) pack

bench-slabs: setup
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(BENCH_DIR) slabs

# Measures streams in network namespaces beside the reference library, and
# deliveries to rooms; it needs root and about ten minutes.
bench-multicast: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) multicast

# Reads all modules of Debian's kernel, matches a large roster, adds a layer to a build.
bench-drivers: setup
	lab/prepare .lab
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) drivers $(CURDIR)/.lab/root

# Boots a machine with UEFI firmware, to the agent and to nothing.
bench-boot: setup build
	lab/prepare .lab
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) boot $(CURDIR)/.lab/root

bench-records: setup
	TMPDIR=$(SCRATCH) $(GO) test -run '^$$' -bench 'Records|Million' -benchtime 5x -timeout 30m ./records
	TMPDIR=$(SCRATCH) $(GO) test -run '^$$' -bench RightsInLists -benchtime 100x ./service/fleet

# 50 outposts of one service; it takes about three minutes, and some 4 GiB in SCRATCH.
bench-outposts: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) outposts

# Deliveries from an object store beside the data folder, a backup and its restore, and how long it
# takes until another machine is the service; some four minutes.
bench-stores: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) stores
	bin/bench -dir $(SCRATCH) takeover

# 10,000 workstations in the roster, 1,000 at work, on a service of its own; it takes about
# ten minutes and some 600 MiB in memory.
bench-scale: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) scale

# A year of nights in fast motion, with 10,000 machines: what the process holds at the end is what it held at the beginning.
bench-soak: setup
	JUGATE_SOAK=365,10000 TMPDIR=$(SCRATCH) $(GO) test -count=1 -v -run TestAYearOfNights -timeout 180m ./service

# The console in a headless browser, with 100 and with 10,000 workstations in the roster; some five minutes.
bench-console: setup build
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(SCRATCH) console

# A disk of 200 GiB and half a million slabs, for what a disk of 2 TB and five million would
# take; it needs root, some 10 GiB in BENCH_DIR, and about ten minutes.
bench-terabytes: setup
	$(GO) build -o bin/ ./bench ./bench/step
	bin/bench -dir $(BENCH_DIR) terabytes

# Pictures of the console's pages, made from the demo's data.
reference:
	$(GO) run ./cmd/jugate reference docs/reference

# The interface as it is published with a version: what changes later must not break who uses that.
interface:
	$(GO) run ./cmd/jugate openapi | gzip -9n > service/web/testdata/openapi.json.gz

screenshots: setup build
	JUGATE_SCREENSHOTS=$(CURDIR)/docs/screenshots $(GO) test -count=1 ./console

clean:
	rm -rf bin .lab console/dist/assets console/dist/index.html console/node_modules console/src/api/schema.gen.ts console/openapi.json
