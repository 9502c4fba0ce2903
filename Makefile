.PHONY: demo test attack bench bench-dhcp bench-neighbours score score-mutated bench-lookups bench-watch bench-notice bench-healthy bench-acting bench-case bench-sockets build screenshots fuzz check

RUNS ?= 20
FUZZTIME ?= 60s
SEEDS ?= 3
MUTATIONS ?= 2400
FAULTS ?= 10000
STUCK ?= 20
# Packages whose tests measure: nothing runs beside them.
MEASURE = internal/(machine/linux|scenario/namespaces)$$
# Packages whose tests wait long: they begin first, so that nothing waits for them alone at the end.
WAIT = ./internal/tui ./cmd/passepartout ./internal/probe/plan ./internal/dhcplab

# Before what else the machine has to do, where the system lets us: tests wait for packets and not for their turn.
FIRST = $(shell test "$$(id -u)" = 0 && echo nice -n -10)

build: ## one static binary, and its manual pages in man
	CGO_ENABLED=0 go build -trimpath -ldflags "-s -w" -o passepartout ./cmd/passepartout
	./passepartout manuals --output man

demo:
	go run ./cmd/passepartout demo

test: ## everything; installs what the namespace and terminal tests need when it may (check vets, and so it does not)
	sh scripts/test-tools.sh
	$(FIRST) go test -vet=off -p 3 -parallel 6 -timeout 15m $(WAIT) $$(go list ./... | grep -v -E '$(MEASURE)')
	$(FIRST) go test -vet=off -p 1 -parallel 10 -timeout 15m $$(go list ./... | grep -E '$(MEASURE)') # one at a time

check: ## what every change must pass besides the tests
	test -z "$$(gofmt -l .)" || { gofmt -l .; exit 1; }
	go vet ./...
	go tool staticcheck ./...

bench: ## prints the figures that the project promises (RUNS=20 by default; about an hour)
	sh scripts/test-tools.sh
	go test -count=1 -parallel 6 -timeout 90m -v -run 'TestSimulatedGround|TestKernelGround|TestUserNamespace' ./internal/scenario/namespaces -every -runs $(RUNS) | grep -E '^(simulated|kernel|user namespace|   wrong)|^(ok|FAIL)'
	go test -count=1 -v -run 'TestRoundTripAgainstCapture' ./internal/machine/linux | grep -E '^round trip|^(ok|FAIL)'
	go test -count=1 -v -run 'TestWholeProcess|TestScreenFirstFrame|TestScreenMemory' ./cmd/passepartout | grep -E '^(check|first|demo)|^(ok|FAIL)'

bench-dhcp: ## the figures of DHCP: real clients against real servers, and how fast captures are read (about two minutes)
	sh scripts/test-tools.sh
	go test -count=1 -v -parallel 8 ./internal/dhcplab | grep -E '^real|^(ok|FAIL)|^ *--- (FAIL|SKIP)'
	go test -count=1 -v -run 'TestConstantMemory|TestReadingSpeed' ./internal/capture | grep -E '^capture|^(ok|FAIL)'

bench-neighbours: ## the figures of neighbours and names: how fast a segment is asked, how near the times of name servers come (half a minute)
	sh scripts/test-tools.sh
	go test -count=1 -v -run 'TestAskingASegment|TestPoliteToASegment|TestComparisonAgainstKnownDelays' ./internal/scenario/namespaces | grep -E '^(a /|requests within|name server|advice)|^(ok|FAIL)'

bench-lookups: ## look-ups beside those of the system's library: 67 settings at servers of 23 manners, outcome and order of questions (a minute)
	sh scripts/test-tools.sh
	go test -count=1 -v -run 'TestNamesAreLookedUp' ./internal/machine/linux -every-lookup | grep -E '^look-ups|^(ok|FAIL)|the library|^ *we '

score: ## every scenario on every ground at several addresses and paces, with loss, and two faults at once: zone, fault, false alarms by family of fault, and what was taken for what (half an hour)
	sh scripts/test-tools.sh
	go test -count=1 -parallel 8 -timeout 90m -v -run 'TestScore' ./internal/scenario/namespaces -every -seeds $(SEEDS) | grep -E '^(score|  [a-z])|^(ok|FAIL)|--- FAIL'

score-mutated: ## every scenario again and again, each time with one harmless thing of its surroundings changed: how often the zone changes, and how far "certain" can be trusted (a quarter of an hour)
	sh scripts/test-tools.sh
	go test -count=1 -parallel 8 -timeout 90m -v -run 'TestScoreMutated' ./internal/scenario/namespaces -mutations $(MUTATIONS) | grep -E '^(score|  [a-z])|^(ok|FAIL)|--- FAIL'

bench-watch: ## the figures of watching: attribution, traces, many targets, a day, keys (about four minutes)
	sh scripts/test-tools.sh
	go test -count=1 -v -run 'TestAttribution|TestLongTrace|TestManyTargets' ./internal/scenario/namespaces | grep -E '^(attribution|trace|[ 0-9]+ targets)|^(ok|FAIL)'
	go test -count=1 -v -run 'TestRoundTripAgainstCapture' ./internal/machine/linux | grep -E '^round trip|^(ok|FAIL)'
	go test -count=1 -v -run 'TestADay' ./internal/probe/watch | grep -E '^a day|^(ok|FAIL)'
	go test -count=1 -v -run 'TestKeyLatency' ./internal/tui | grep -E '^(a key|watching)|^(ok|FAIL)'

bench-notice: ## how long after a break, and a repair, the verdict says so and is current, on both grounds (a minute)
	sh scripts/test-tools.sh
	go test -count=1 -v -run 'TestTimeToNotice' ./internal/scenario/namespaces | grep -E '^time to notice|^(ok|FAIL)'

bench-healthy: ## a sound site in namespaces, watched for ten minutes beside a busy core: the verdict does not change
	sh scripts/test-tools.sh
	go test -count=1 -v -timeout 15m -run 'TestHealthyBesideABusyCore' ./internal/scenario/namespaces -every | grep -E '^beside|^(ok|FAIL)|truth|  [0-9]'

bench-case: ## a case that is killed at 200 moments, and whose disk fills at 50 sizes; a day of watching kept and opened; stand-ins in every scenario (five minutes)
	go test -count=1 -v -run 'TestKilled|TestDiskFull|TestADay' ./internal/casefile -every | grep -E '^case|^(ok|FAIL)|--- FAIL'
	go test -count=1 -v -run 'TestThePage|TestTheDocument' ./internal/report | grep -E '^--- |skip|not installed|^(ok|FAIL)'
	go test -count=1 -v -parallel 8 -run 'TestSimulatedGround/simulated$$' ./internal/scenario/namespaces -every | grep -E '^(simulated|case)|^(ok|FAIL)|--- FAIL'

bench-acting: ## what is mended by keys and by commands, on both grounds, how the guard takes back, and how soon a plan is shown (two minutes)
	sh scripts/test-tools.sh
	go test -count=1 -v -run 'TestMendedByKeys|TestAPlanIsShownAtOnce' ./internal/tui | grep -E '^(mended|a plan)|^(ok|FAIL)|--- FAIL'
	go test -count=1 -v -run 'TestTenThousandRoutes' ./internal/core/change | grep -E '^a plan|^(ok|FAIL)|--- FAIL'
	go test -count=1 -v -run 'TestAFailure|TestTheGuard' ./internal/acting | grep -E '^(ok|FAIL)|--- FAIL|at_step' | sed 's/ (.*//' | sort | uniq | grep -c 'PASS.*at_step' | sed 's/$$/ failures at steps: taken back, and told/'
	go test -count=1 -v -parallel 6 -run 'TestMendedByCommand|TestScreenMendsThisMachine|TestTheGuardTakesBack|TestChangesAndUndo' ./internal/scenario/namespaces -every | grep -E '^mended|^(ok|FAIL)|--- '

bench-sockets: ## a hundred thousand sockets read and grouped, short connections told, what is stuck made in the kernel STUCK times each (five minutes with 20)
	sh scripts/test-tools.sh
	go test -count=1 -v -timeout 30m -run 'TestManySockets|TestShortConnections|TestWhatIsStuck|TestALossyWay' ./internal/machine/linux -many-sockets -stuck-runs $(STUCK) | grep -E '^(sockets|short)|^(ok|FAIL)|--- (FAIL|PASS)'

attack: ## hostile networks, files and systems, the long way: all strangers at once, five hundred interfaces, calls that fail by FAULTS seeds, keys (half an hour)
	sh scripts/test-tools.sh
	go test -count=1 -timeout 30m -v -run 'Strangers|TestManyInterfaces|TestANeighbourThatLies|Rubbish|TestAnAnswerToAnotherQuestion|TestNamesFromTheWire' ./internal/scenario/namespaces -every | grep -E '^(strangers|500)|^(ok|FAIL)|--- FAIL'
	go test -count=1 -timeout 90m -v -run TestEveryCallCanFail ./internal/probe/plan -fault-seeds $(FAULTS) | grep -E 'map|^(ok|FAIL)|--- FAIL'
	go test -count=1 -timeout 90m -run TestACaseLives ./internal/conductor -fault-seeds $$(($(FAULTS) / 10))
	go test -count=1 -timeout 30m -run 'TestAnyKeysAtAnySize|TestAPasteEnds' ./internal/tui -key-seeds 60
	go test -count=1 -run 'TestOutputThat|TestNobodyIsAsked|TestScreenSignals|TestScreenAPaste|TestWhatEachCommandKeeps|TestBadInput' ./cmd/passepartout
	go test -count=1 ./internal/privilege ./internal/plainfile ./internal/sheetfile ./internal/responder ./internal/capture ./internal/leasefile

fuzz: ## a minute for each parser of data from outside, and for a check on a network that answers anything
	@for t in core/wiretext:FuzzClean core/target:FuzzParse core/endpoint:FuzzParseFiles machine/wire:FuzzParsePacket machine/wire:FuzzParseFrame machine/wire:FuzzSYNAnswer machine/wire:FuzzAdvertisement machine/wire:FuzzLLDP sheetfile:FuzzParse core/farend:FuzzRead core/dhcp:FuzzDescribe capture:FuzzCapture capture:FuzzChoice capture:FuzzExchanges leasefile:FuzzFiles probe:FuzzOffer probe:FuzzAnswer probe:FuzzPortal probe:FuzzProxyScript probe/plan:FuzzNetwork core/endpoint:FuzzEnvironment scenario:FuzzParse; do \
		echo "$$t"; go test -run XXX -fuzz "^$${t##*:}$$" -fuzztime $(FUZZTIME) -fuzzminimizetime 10x ./internal/$${t%%:*} || exit 1; done

screenshots: build ## pictures of the main views, from the demonstration
	bash scripts/screenshots.sh
