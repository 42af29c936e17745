# vaiven: see README.md. Everything runs on Debian with Go, git and make.

VERSION := $(shell git describe --tags --always --dirty 2>/dev/null || echo unknown)
GO      ?= go

.PHONY: build dist demo test long steady race quick bench cluster-test evidence torment shots man fuzz simulate mutate clean

build:
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w -X main.version=$(VERSION)" -o bin/vaiven ./cmd/vaiven
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w" -o bin/vaiven-relay ./cmd/vaiven-relay
	CGO_ENABLED=0 $(GO) build -trimpath -ldflags "-s -w" -o bin/vaiven-demo ./lab/vaiven-demo

# The archives of a release, for amd64 and arm64, with checksums. Two builds of the same tree are equal.
dist:
	VERSION=$(VERSION) GO=$(GO) scripts/dist bin/dist

# The main job with made-up data; needs a terminal.
demo: build
	./bin/vaiven demo

# Everything, on two processors in 13 to 17 minutes after it is compiled: what tests need is installed first. Tests have fixed
# seeds, and are built as what is released is: see scripts/tests. PACKAGES=... tries these alone.
test:
	scripts/need test
	@unformatted=$$(gofmt -l .); test -z "$$unformatted" || { echo "not formatted:"; echo "$$unformatted"; exit 1; }
	CGO_ENABLED=0 GOFLAGS="-trimpath $$($(GO) env GOFLAGS)" $(GO) vet ./...
	GO=$(GO) scripts/tests $(PACKAGES)

# Those of test with new seeds, and those that take long: all over SSH what is tried beside it too, messages by the ten
# thousand, and more cells of the torment. It takes half an hour.
long:
	scripts/need test
	VAIVEN_SEED=new GO=$(GO) scripts/tests long $(PACKAGES)

# A fresh clone, tested ten times in a row, every second time on a busy machine: all have to be green.
steady:
	GO=$(GO) scripts/steady $(or $(TIMES),10) $(PACKAGES)

# All of it with the race detector. It takes half an hour.
race:
	scripts/need test
	$(GO) test -race -vet=off -timeout 40m ./...

# The stack and the front of a cluster on a real control plane, which is built once: see scripts/plane. RECORD=yes
# writes down what it answers, which the stand-in has to answer as well.
cluster-test:
	RECORD=$(RECORD) scripts/plane

# Without the race detector, the demos and the terminal.
quick:
	$(GO) test . ./internal/...

# The manual pages, made from the commands' own help.
man: build
	./bin/vaiven man bin/man

# Figures for docs/benchmarks.md, against HAProxy and nginx in the same run.
bench: build
	scripts/need bench
	$(GO) run ./lab/bench -vaiven bin/vaiven -out docs/benchmarks.md

# How often guards are wrong, and how soon they are right, for docs/benchmarks.md. It takes a quarter of an hour.
evidence:
	$(GO) run ./lab/bench/evidence -runs 200 -out docs/benchmarks.md

# How soon users are home when a release goes bad, in every way on every front, for
# docs/benchmarks.md. It takes an hour and a half.
torment: build
	scripts/need test
	$(GO) build -o bin/torment ./lab/torment
	rm -f bin/torment.json
	./bin/torment -vaiven bin/vaiven -out docs/benchmarks.md
	./bin/torment -vaiven bin/vaiven -kills 200
	$(GO) test ./internal/front/queue -run '^TestTorment$$' -v -timeout 1h -messages 100000 -table $(CURDIR)/bin/messages.md
	cat bin/messages.md

# The pictures in docs/screenshots, made anew from the demo.
shots: build
	scripts/need shots
	scripts/shots

# Most of a day: crossings in worlds in which everything fails. A seed that breaks a promise
# is printed with its story; -from=SEED -crossings=1 tells it again.
simulate:
	VAIVEN_SEED=new $(GO) test ./internal/core/engine -run '^TestSimulation$$' -v -timeout 24h -crossings 1000000
	VAIVEN_SEED=new $(GO) test ./internal/keeper -run '^TestSimulation$$' -v -timeout 24h -crossings 50000

# Which changes of the judgement no test notices, also in the cases of switches. It takes hours.
GREMLINS := github.com/go-gremlins/gremlins/cmd/gremlins@v0.6.0
mutate:
	for package in route wayback guard crossing engine evidence split trial forecast; do \
		GOFLAGS=-short $(GO) run $(GREMLINS) unleash --timeout-coefficient 30 --workers 2 ./internal/core/$$package || exit 1; \
	done
	for package in route wayback raise guard figures evidence split trial difference crossing engine; do $(GO) run ./lab/mutate ./internal/core/$$package || exit 1; done

# A minute for each parser.
fuzz:
	$(GO) test ./internal/plan/planfile -run '^$$' -fuzz FuzzParse -fuzztime 60s
	$(GO) test ./internal/core/split -run '^$$' -fuzz FuzzParseShare -fuzztime 60s
	$(GO) test ./internal/core/crossing -run '^$$' -fuzz FuzzEvent -fuzztime 60s
	$(GO) test ./internal/world/check -run '^$$' -fuzz FuzzLookUp -fuzztime 60s
	$(GO) test ./internal/proving/differ -run '^$$' -fuzz FuzzStructured -fuzztime 60s
	$(GO) test ./internal/core/difference -run '^$$' -fuzz FuzzMask -fuzztime 60s
	$(GO) test ./internal/world/secret -run '^$$' -fuzz FuzzHide -fuzztime 60s
	$(GO) test ./internal/proving/pairs -run '^$$' -fuzz FuzzLog -fuzztime 60s
	$(GO) test ./internal/world/accesslog -run '^$$' -fuzz FuzzParse -fuzztime 60s
	$(GO) test ./internal/front/embedded -run '^$$' -fuzz FuzzFraming -fuzztime 60s
	$(GO) test ./internal/front/embedded -run '^$$' -fuzz FuzzAnswers -fuzztime 60s
	$(GO) test ./internal/front/haproxy -run '^$$' -fuzz FuzzTables -fuzztime 60s
	$(GO) test ./internal/front/nginx -run '^$$' -fuzz FuzzTheFile -fuzztime 60s
	$(GO) test ./internal/front/httpd -run '^$$' -fuzz FuzzTheManagersPage -fuzztime 60s
	$(GO) test ./internal/stack/host -run '^$$' -fuzz FuzzParseList -fuzztime 60s

clean:
	rm -rf bin
