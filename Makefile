# The two commands: make demo, make test.

.PHONY: demo test bench set-up-build set-up-test clean

demo: set-up-build
	cargo build --release --locked
	target/release/deft-porter demo demo-house

# Format, lints, every test, and the demo once (on the build the tests made).
test: set-up-test
	cargo fmt --all --check
	cargo clippy --workspace --all-targets --locked -- -D warnings
	@rm -f target/tmp/skipped
	cargo test --workspace --locked
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
