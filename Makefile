# Everything a fresh Debian machine needs is done by `make setup`; the other targets call it.
PY := .venv/bin/python
ARGS ?=

.PHONY: setup setup-dev wheel demo test test-long check quick bench shots guide stats lock clean

setup: .venv/.ready

.venv/.ready: requirements.lock requirements-setup.lock pyproject.toml scripts/setup.sh
	bash scripts/setup.sh

setup-dev: .venv/.ready-dev

.venv/.ready-dev: requirements-dev.lock requirements-setup.lock pyproject.toml scripts/setup.sh
	bash scripts/setup.sh dev

demo: setup
	.venv/bin/inner-lamp demo $(ARGS)

test: setup-dev check
	bash scripts/test.sh $(ARGS)

# All of every battery, every choice and every pair of choices; an hour or two. Its result belongs in the closing note.
test-long: setup-dev check
	INNERLAMP_LONG=1 INNERLAMP_WALK=all bash scripts/test.sh $(ARGS)

check: setup-dev
	.venv/bin/ruff check src tests benchmarks
	.venv/bin/ruff format --check --quiet src tests benchmarks
	.venv/bin/lint-imports --no-cache & imports=$$!; .venv/bin/mypy && wait $$imports

# Ten figures in a minute, each beside a peer in the same run: fails when one is a third of what it was.
quick: setup-dev
	.venv/bin/python -m benchmarks.quick $(ARGS)

bench: setup-dev
	bash scripts/with_display.sh $(PY) -m benchmarks $(ARGS)

shots: setup
	.venv/bin/inner-lamp demo --fresh --shots docs/screenshots

guide: setup
	.venv/bin/python -m innerlamp.core.running.help_pages docs/guide

wheel: setup-dev
	bash scripts/wheel.sh

stats:
	@src=$$(git ls-files 'src/*.py' | xargs cat | wc -l); tests=$$(git ls-files 'tests/*.py' | xargs cat | wc -l); \
	echo "code $$src lines, tests $$tests lines, tests are $$((100 * tests / src)) % of the code (asked: 25 to 33)"

lock:
	bash scripts/lock.sh $(ARGS)

clean:
	rm -rf .venv .pytest_cache .mypy_cache .ruff_cache
