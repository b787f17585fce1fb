.PHONY: demo test lint soak soak-long bench bench-check docs screenshots deb offline setup venv kernels

run = .venv/bin/python -m
# Python compiles its modules once, not in every process that is started; images of containers often forbid that
unexport PYTHONDONTWRITEBYTECODE

setup: kernels

venv:
	@tools/setup

kernels: venv      # compiled here, so that nobody waits for them later
	@.venv/bin/python tools/compile_kernels.py

demo:              ## the desktop with demo data; without a display the whole example, printed
	@tools/setup run
	@.venv/bin/python tools/compile_kernels.py
	@.venv/bin/hemtra demo

lint: venv
	$(run) ruff check .
	$(run) ruff format --check .
	$(run) mypy
	.venv/bin/lint-imports

test: venv         ## everything that must hold
	@$(MAKE) --no-print-directory -j 2 kernels lint
	$(run) pytest -n 2 --dist worksteal

soak: setup        ## what a running line must survive, pressed into ten minutes; properties at random; mutants
	HEMTRA_EXAMPLES=4 $(run) pytest tests/core -n 2 -q
	$(run) pytest tests/runtime/test_soak.py tests/virtual/test_demo_uncertainty.py -o addopts="" -q -s
	.venv/bin/python tools/mutants.py

soak-long: setup   ## hours: the same in full, and ten thousand defects put into good scans; writes their pages in docs
	HEMTRA_SOAK=long $(run) pytest tests/runtime/test_soak.py -o addopts="" -q
	.venv/bin/python tools/hunt.py 10000 hunt.log

bench: setup       ## speed figures of docs/performance.md
	$(run) pytest benchmarks -o addopts="" -q --benchmark-columns=min,median,max,rounds --benchmark-sort=name

bench-check: setup ## fails where a benchmark is 15 % slower than the figures kept in benchmarks/ratios.json
	.venv/bin/python tools/bench_check.py

docs: venv         ## the manual as pages for a browser, in build/manual
	$(run) mkdocs build --strict --quiet

deb: venv          ## build/hemtra_VERSION_ARCH.deb, a package for Debian and what derives from it
	@tools/make_deb

offline: venv      ## build/offline, a folder that installs Hemtra where there is no network
	@tools/make_offline

screenshots: setup ## refresh docs/screenshots from the demo data
	xvfb-run -a -s "-screen 0 1280x800x24" .venv/bin/python tools/screenshots.py
