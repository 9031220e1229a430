# `make demo` and `make test` are all that a newcomer needs. Both install what they miss, as far as they may.

.PHONY: demo tour test fuzz bench bench-rules console api screenshots engine lint packages clean

CARGO ?= cargo
PACKAGES = chromium chromium-driver curl fonts-dejavu-core openssh-client openssl python3 rsync util-linux bsdutils perl-base \
	tigervnc-standalone-server tigervnc-tools x11vnc xvfb openbox xterm x11-apps ffmpeg

# The SSH engine is unpacked and patched before cargo looks at the workspace.
engine:
	@scripts/prepare-engine

console/node_modules: console/package-lock.json
	cd console && npm ci --no-fund --no-audit
	@touch $@

console/dist: console/node_modules $(shell find console/src console/public console/index.html console/vite.config.ts -type f)
	cd console && npm run build
	@touch $@ crates/aerie-service/src/assets.rs

console: console/dist

demo: engine console
	@$(CARGO) build --quiet -p aerie
	@exec target/debug/aerie demo $(ARGS)

tour: packages engine console
	@$(CARGO) build --quiet -p aerie
	@exec target/debug/aerie demo --tour $(ARGS)

# What the tests need from Debian; the machines' SSH server is unpacked by the demo itself and never installed.
packages:
	@scripts/need-packages $(PACKAGES)

lint: engine console
	cd console && npm run check
	$(CARGO) fmt --all --check
	$(CARGO) clippy --workspace --all-targets --quiet -- -D warnings

test: packages engine console lint
	$(CARGO) test --workspace

# The description of the API, and the types that the console makes of it.
api: engine console/node_modules
	AERIE_WRITE_OPENAPI=1 $(CARGO) test -p aerie-service --lib description_of_the_api
	cd console && npm run api

screenshots: packages engine console
	$(CARGO) test -p aerie --test console -- --ignored screenshots
	scripts/terminal-shots

# Needs the nightly toolchain and `cargo install cargo-fuzz`. SECONDS of each target; what it finds stays in fuzz/corpus.
SECONDS ?= 60
fuzz: engine
	@for target in $$(sed -n 's|^path = "fuzz_targets/\(.*\).rs"|\1|p' fuzz/Cargo.toml); do \
		mkdir -p fuzz/corpus/$$target fuzz/seeds/$$target && \
		$(CARGO) +nightly fuzz run $$target fuzz/corpus/$$target fuzz/seeds/$$target -- -max_total_time=$(SECONDS) -max_len=2000 || exit 1; \
	done

bench: engine console
	$(CARGO) build --release --quiet -p aerie
	$(CARGO) bench --quiet -p aerie-core
	target/release/aerie-bench
	$(MAKE) bench-rules

# A workspace of its own: it brings the policy engine that the rules are compared with, which takes minutes to build.
bench-rules:
	$(CARGO) run --release --quiet --manifest-path tools/rules-bench/Cargo.toml

clean:
	rm -rf target .engine console/dist console/node_modules
