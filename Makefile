# The commands of the README. Each installs what it is missing: Rust, Node and
# npm must be there, everything else is fetched with apt, npm and cargo.

CARGO ?= cargo
NPM   ?= npm --prefix console
# A list of packages is only fetched when something is missing.
APT    = apt-get
# Most tests wait for something most of the time.
THREADS ?= $(shell echo $$((2 * $$(nproc))))
SUDO   = $(shell [ "$$(id -u)" = 0 ] || command -v sudo)

CONSOLE_SOURCES = $(shell find console/src console/public -type f) console/index.html \
                  console/vite.config.ts console/tsconfig.json console/package-lock.json

.PHONY: demo build console types quick test chaos bench fuzz fuzz-api shots fmt clean compiler browser server farservers disks archivers frames terminal

## demo: build, start the service with demo data and a live feeder, print the address
demo: compiler
	$(MAKE) --no-print-directory -j2 console demo-binary
	$(CARGO) build --profile demo --locked -p vadegate
	target/demo/vadegate demo

# All compiles while the page is built, and what needs the page comes last: it is missed there
# only by a page that takes minutes. One selection of packages, since another has other features
# of theirs, and half of them is compiled twice.
.PHONY: demo-binary
demo-binary:
	-$(CARGO) build --profile demo --locked -p vadegate --keep-going

## build: the release binary with the console in it
build: compiler console
	$(CARGO) build --release --locked

## console: type check and build of the page
console: console/dist/index.html

console/dist/index.html: $(CONSOLE_SOURCES) console/node_modules/.package-lock.json
	$(NPM) run check
	$(NPM) run build
	touch $@

console/node_modules/.package-lock.json: console/package-lock.json
	$(NPM) ci --no-audit --no-fund
	touch $@

## quick: formatting, lints and unit tests of one crate, without browser or database
CRATE ?= vadegate-core
quick: compiler
	$(CARGO) fmt --all --check
	$(CARGO) clippy --locked -p $(CRATE) --all-targets -- -D warnings
	$(CARGO) test --locked -p $(CRATE)

## types: the API's document in the docs, and the console's types that are made from it
types: compiler console/node_modules/.package-lock.json
	VADEGATE_WRITE_DOCUMENT=1 $(CARGO) test --locked -p vadegate-service --lib -- the_document_in_the_docs
	$(NPM) run types

## test: formatting, lints, the console's checks, and all tests
test: compiler browser server farservers disks archivers console
	$(CARGO) fmt --all --check
	$(CARGO) clippy --locked --workspace --all-targets -- -D warnings
	$(NPM) test
	RUSTDOCFLAGS="-D warnings -A rustdoc::private_intra_doc_links" $(CARGO) doc --locked --workspace --no-deps --quiet
	RUST_TEST_THREADS=$(THREADS) $(CARGO) test --locked --workspace

## chaos: kill -9 at random moments under load, random sequences against a model, and
## readers beside a writer, and power cuts; KILLS=200 CUTS=40 MINUTES=10 SEED=n
chaos: compiler server farservers disks console
	VADEGATE_KILLS=$(or $(KILLS),200) $(if $(SEED),VADEGATE_SEED=$(SEED)) \
	  $(CARGO) test --locked --release -p vadegate --test e2e -- chaos:: chaos_loads --nocapture
	VADEGATE_FAULTS=$(or $(FAULTS),1000) $(if $(SEED),VADEGATE_SEED=$(SEED)) \
	  $(CARGO) test --locked -p vadegate --test e2e -- chaos_afar --nocapture
	$(CARGO) test --locked --release -p vadegate --test e2e -- five_gigabytes --ignored --nocapture
	VADEGATE_CUTS=$(or $(CUTS),40) $(if $(SEED),VADEGATE_SEED=$(SEED)) \
	  $(CARGO) test --locked -p vadegate --test e2e -- power --nocapture
	VADEGATE_MINUTES=$(or $(MINUTES),10) $(if $(SEED),VADEGATE_SEED=$(SEED)) \
	  $(CARGO) test --locked -p vadegate --test e2e -- model --nocapture
	VADEGATE_WRITTEN=200000 \
	  $(CARGO) test --locked --release -p vadegate-core -- eight_readers

## bench: measures beside their baselines, as ratios
bench: compiler browser server farservers disks archivers frames console
	$(CARGO) bench --locked -p vadegate --bench passage --bench synced --bench handing --bench editing --bench growth --bench arrivals --bench ledger --bench busy --bench watching --bench afar --bench tables --bench typed --bench loads
	$(CARGO) test --locked --release -p vadegate --test e2e -- page_figures --ignored --nocapture

## fuzz: the readers of tables and the API against what nobody would send; SECONDS=60 for each reader
fuzz: fuzz-api
	@$(CARGO) fuzz --version >/dev/null 2>&1 || $(CARGO) install --locked cargo-fuzz
	cd crates/tables && for target in text records workbooks; do \
	  mkdir -p fuzz/corpus/$$target fuzz/seeds/$$target && \
	  RUSTC_BOOTSTRAP=1 $(CARGO) fuzz run --sanitizer none $$target \
	    fuzz/corpus/$$target fuzz/seeds/$$target tests/nasty -- \
	    -max_total_time=$(or $(SECONDS),60) -max_len=65536 -rss_limit_mb=4096 || exit 1; \
	done

# The calls of the API, by each role, against what nobody would send (schemathesis).
fuzz-api: compiler
	@command -v python3 >/dev/null && python3 -m venv --help >/dev/null 2>&1 || \
	  $(MAKE) --no-print-directory install PACKAGES="python3 python3-venv"
	@[ -x target/schemathesis/bin/schemathesis ] || { python3 -m venv target/schemathesis && \
	  target/schemathesis/bin/pip install -q 'schemathesis==4.*'; }
	$(CARGO) build --locked -p vadegate
	crates/service/fuzz/api.sh target/debug/vadegate "$$(pwd)/target/schemathesis/bin/schemathesis" $(or $(EXAMPLES),20)

## shots: the pictures of docs/screenshots, made from the demo
shots: compiler browser terminal console
	$(CARGO) test --locked -p vadegate --test e2e -- shots --ignored --nocapture

## fmt: format everything
fmt:
	$(CARGO) fmt --all

clean:
	$(CARGO) clean
	rm -rf console/dist console/node_modules

# A C compiler, which the embedded SQLite is built with.
compiler:
	@command -v cc >/dev/null || $(MAKE) --no-print-directory install PACKAGES="gcc libc6-dev"
	@$(CARGO) clippy --version >/dev/null 2>&1 || rustup component add clippy
	@$(CARGO) fmt --version >/dev/null 2>&1 || rustup component add rustfmt

# Headless Chromium and its driver, for the tests of the page.
browser:
	@command -v chromedriver >/dev/null && command -v chromium >/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="chromium chromium-driver fonts-dejavu-core"

# A PostgreSQL server for the tests of loading, which start their own; openssl makes its
# certificate, psql and the sqlite3 shell are what loads are measured beside.
server:
	@ls /usr/lib/postgresql/*/bin/initdb >/dev/null 2>&1 && command -v openssl >/dev/null && \
	  command -v psql >/dev/null && command -v sqlite3 >/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="postgresql openssl sqlite3"

# Servers of SFTP, FTP and WebDAV for the tests of places, which start their own; none runs besides.
farservers:
	@PATH="$$PATH:/usr/sbin"; command -v sshd >/dev/null && command -v ssh-keygen >/dev/null && command -v pkill >/dev/null && \
	  command -v apache2 >/dev/null && command -v openssl >/dev/null && /usr/bin/python3 -c 'import pyftpdlib, OpenSSL' 2>/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="openssh-server openssh-client apache2-bin openssl python3 python3-pyftpdlib python3-openssl procps"

# A clock that can be set for one process, and file systems of which the power is cut.
disks:
	@PATH="$$PATH:/usr/sbin:/sbin"; ls /usr/lib/*/faketime/libfaketime.so.1 >/dev/null 2>&1 && command -v mkfs.ext4 >/dev/null && \
	  command -v mount >/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="libfaketime e2fsprogs mount"

# Other programs that make and read archives, beside which ours are tested.
archivers:
	@command -v python3 >/dev/null && command -v zip >/dev/null && command -v unzip >/dev/null && \
	  command -v gpg >/dev/null && command -v 7z >/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="python3 zip unzip gnupg p7zip-full"

# Two libraries of data frames, in an environment of their own, and a packer that uses all
# processors: beside them typed tables are measured.
FRAMES := target/bench-python
frames:
	@command -v pigz >/dev/null && python3 -c 'import ensurepip' 2>/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="pigz python3 python3-venv"
	@$(FRAMES)/bin/python -c 'import polars, duckdb' 2>/dev/null || \
	  { python3 -m venv $(FRAMES) && $(FRAMES)/bin/pip install --quiet polars duckdb; }

# A terminal window on a screen that nobody sees, for pictures of commands.
terminal:
	@command -v xterm >/dev/null && command -v xvfb-run >/dev/null && command -v import >/dev/null || \
	  $(MAKE) --no-print-directory install PACKAGES="xterm xvfb xauth imagemagick fonts-dejavu-core"

.PHONY: install
install:
	$(SUDO) $(APT) update
	$(SUDO) env DEBIAN_FRONTEND=noninteractive $(APT) install -y --no-install-recommends $(PACKAGES)
