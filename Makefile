# make demo         set up, build, and run the whole example; results in out/demo
# make test         set up and run the tests
# make test-current the same on the current R with current packages (a Debian 13 in DREHER_CURRENT)
# make install      installs the package with its vignettes, for library(dreher)
# make lint         are layout and style in order? (see CONTRIBUTING.md)
# make format       lays the code out anew
# make check        R CMD check
# make docs         help pages and NAMESPACE from the comments in R/
# make screenshots  docs/screenshots from the demo data
# make trust        warnings, sanitizers, mutants, random studies, kills, interrupts (an hour)
# make bench        paired benchmarks; the last results are in bench/results

SHELL := /bin/bash
LIB := $(CURDIR)/out/library
R_ENV := R_LIBS=$(LIB):$$R_LIBS
# The same everywhere; some packages ask the system for it, and not every system answers.
export TZ := UTC

.PHONY: demo test lint format test-current install check docs screenshots bench trust build setup-demo setup-test setup-develop setup-trust clean

demo: setup-demo build
	$(R_ENV) exec/dreher demo --out out/demo

test: setup-test build
	$(R_ENV) Rscript tools/test.R

DREHER_CURRENT ?= $(CURDIR)/out/current
test-current:
	@mkdir -p $(dir $(DREHER_CURRENT))
	tools/current $(DREHER_CURRENT)

install: setup-demo
	mkdir -p out && cd out && R CMD build --no-manual .. > build.log 2>&1 || { cat build.log; exit 1; }
	R CMD INSTALL out/dreher_*.tar.gz

lint: setup-test
	Rscript tools/lint.R

format: setup-develop
	Rscript tools/format.R $$(ls R/*.R tests/testthat/*.R bench/*.R data-raw/*.R tools/*.R | grep -v RcppExports)
	clang-format -i $$(ls src/*.cpp src/*.h | grep -v RcppExports)

check: setup-test
	mkdir -p out && cd out && R CMD build .. && _R_CHECK_FORCE_SUGGESTS_=true R CMD check --no-manual dreher_*.tar.gz

docs: setup-develop build
	$(R_ENV) Rscript -e 'Rcpp::compileAttributes(); suppressMessages(roxygen2::roxygenise(load_code = "installed"))'

screenshots: setup-develop build
	$(R_ENV) bash tools/screenshots

bench: setup-develop build
	$(R_ENV) Rscript bench/run.R
	$(R_ENV) Rscript bench/permutation.R
	$(R_ENV) Rscript bench/shapley.R
	$(R_ENV) Rscript bench/resampled.R
	$(R_ENV) Rscript bench/field.R
	$(R_ENV) Rscript bench/effects.R
	$(R_ENV) Rscript bench/checks.R

trust: setup-trust build
	$(R_ENV) bash tools/trust

# Installed into a library of its own, so that nothing of the user's is touched.
build:
	mkdir -p $(LIB)
	MAKEFLAGS=-j2 R CMD INSTALL --no-test-load --library=$(LIB) . > out/install.log 2>&1 || { cat out/install.log; exit 1; }

setup-demo:
	@tools/setup demo

setup-test:
	@tools/setup test

setup-develop:
	@tools/setup develop

setup-trust:
	@tools/setup trust

clean:
	rm -rf out src/*.o src/*.so
