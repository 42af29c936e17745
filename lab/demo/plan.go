package demo

// planText is the demo's plan; the words in capitals are filled in.
const planText = `# The sailing search of Linea Vessa, a ferry company that does not exist.
service: sailings

front:
  listen: LISTEN
  key: random
FRONT
part: PART
versions: folder builds
stack:
  instances: 3
STACK  raise: 12s
  grace: 3s
  capacity: 240 /s
  price: 0.048 EUR

health:
  path: /healthz
  every: 500ms
  within: 3s
  up: 2
  down: 3

settle: 1s
smoke:
  - name: search
    request: /sailings
    json:
      company: Linea Vessa
    version: json version
    within: 3s
  - name: names a ship
    request: /sailings
    contains: '"ship"'
    within: 3s

needs:
  - name: fares, where its configuration says
    command: ["SERVICES", reach, "builds/{version}/sailings.yaml"]
  - name: fares, from here
    tcp: FARES

says:
  path: /about
  build: json build
  version: json version
  runtime: json runtime
figures: {path: /metrics, every: 1s}
configuration:
  - builds/{version}/sailings.yaml

parts:
  berths:
    versions: registry REGISTRY
    stack:
      instances: 1
      command: ./builds/{version}/berths --listen {address} --instance {instance}
      ports: BERTHPORTS
      raise: 12s
      grace: 3s
      price: 0.021 EUR
    health:
      path: /healthz
      every: 500ms
      within: 3s
      up: 2
    settle: 0s
    smoke:
      - name: about
        request: /about
        version: json version

differences:
  planned: ["configuration sailings.yaml features.*"]
  then: ask

same-request:
  requests:
    - /sailings?from=Marenda&to=Vessa
    - /sailings?from=Quillon&to=Tamarell
    - /sailings?from=Sant+Orso&to=Vessa
  rate: 40 /s
  repeat: 5
  ignore: [json version, json instance, header X-Sailings-Version]
  then: ask
warm-up: 60 at 60 /s

route:
ROUTE
keep: KEEP

way-back:
  every: 20s
  checks:
    - name: the fares fit {version}
      command: ["SERVICES", reach, "builds/{version}/sailings.yaml"]

guards:
  failing: {worse-by: 1 %, then: roll back}
  slow: SLOW
  unhealthy: {more-than: 0, then: roll back}
  lost: {more-than: 0, then: roll back}
  door: DOOR
WAITS  grows: {name: memory, figure: process_resident_memory_bytes, by: 10 MB, settle: 4s, then: roll back}
  fewer: FEWER

prober:
  path: /sailings
  rate: 25 /s
  within: 5s
  contains: '"ship"'
  version: header X-Sailings-Version
`

// The routes of the demo: one to look at, one to be done with, and one for what shows slowly.
const (
	demoRoute = `  - 5 % for 20s
  - 25 % for 30s
  - ask
  - 50 % for 30s
  - 100 %
`
	wholeRoute = `  - 100 %
`
	quickRoute = `  - 10 % for 8s
  - 50 % for 6s
  - 100 %
`
	slowRoute = `  - 10 % for 8s
  - 50 % for 2m
  - 100 %
`
)
