# The two commands: make demo, make test.

.PHONY: demo test bench set-up-build set-up-test clean

demo: set-up-build
	cargo build --release --locked
	target/release/deft-porter demo demo-house

# The lints look at our own crates while these are compiled for the tests: libraries are compiled once, and not once more to be
# checked only, which took as long. A warning is an error, as `cargo clippy -- -D warnings` has it.
LINTED = RUSTC_WORKSPACE_WRAPPER="$$(rustup which clippy-driver 2>/dev/null || command -v clippy-driver)" \
	CLIPPY_ARGS=-Dwarnings__CLIPPY_HACKERY__

# Format, lints, every test, and the demo once (on the build the tests made). Many tests wait more than they compute.
test: set-up-test
	cargo fmt --all --check
	@rm -f target/tmp/skipped
	$(LINTED) cargo test --workspace --all-targets --locked --no-run
	RUST_TEST_THREADS=$${RUST_TEST_THREADS:-4} $(LINTED) cargo test --workspace --locked --no-fail-fast
	@if [ -s target/tmp/skipped ]; then echo; echo "SKIPPED: $$(wc -l <target/tmp/skipped)"; cat target/tmp/skipped; else echo "Nothing was skipped."; fi
	target/debug/deft-porter demo "$$(mktemp -d)/demo-house"

# One line a figure: name, value, bound, ok or short.
bench: set-up-build
	cargo build --release --locked --bin deft-porter
	cargo run --release --locked -q -p deft-porter --example bench

set-up-build:
	@tools/set-up build

set-up-test:
	@tools/set-up test

clean:
	cargo clean
	rm -rf demo-house
