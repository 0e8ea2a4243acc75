#!/bin/sh
# Every call of the API with what nobody would send, by each role: no answer may be one that the
# document does not describe, and none may be a failure of the service. Usage: api.sh PROGRAM
# SCHEMATHESIS EXAMPLES
set -eu
program=$(realpath "$1") schemathesis=$2 examples=${3:-20}
home=$(mktemp -d)
service=
trap '[ -z "$service" ] || kill "$service" 2>/dev/null; rm -rf "$home"' EXIT
cd "$home"
mkdir -p drops/tide drops/soundings scratch out
cat > vadegate.toml <<'END'
[service]
listen = "127.0.0.1:0"
[gate.tide]
drop    = "drops/tide"
settle  = "20ms"
take    = ["<station>_<n:int>.csv"]
archive = { into = "archive/tide" }
[gate.tide.merge]
into = "out/tide.csv"
[gate.soundings]
drop    = "drops/soundings"
settle  = "20ms"
archive = { into = "archive/soundings" }
[gate.soundings.offer]
lease = "30s"
[clear.scratch]
folder = "scratch"
match  = ["*.tmp"]
[due.tide-morning]
gate = "tide"
each = "<station>"
of   = ["haven", "ullin-bay"]
by   = "07:00"
[lookout.outbox]
at    = "out"
count = "..9"
[tell.desk]
of  = ["held"]
run = { program = "/bin/true" }
END
for role in viewer operator; do "$program" token new --role $role > $role.token 2> /dev/null; done
for role in worker supplier; do
  "$program" token new --role $role --gate soundings > $role.token 2> /dev/null
done
"$program" serve 2> log &
service=$!
while [ ! -s state/address ]; do sleep 0.1; done
# That of the state folder cannot be revoked by what is sent.
cp state/token admin.token
for number in 1 2 3; do
  printf 'time,level\n1,%s\n' $number > drops/tide/haven_$number.csv
  echo $number > drops/soundings/s$number.xyz
done
printf 'a,b\n1\n' > drops/tide/bad_1.csv
"$program" pass --wait > /dev/null || true
for role in supplier worker viewer operator admin; do
  echo "== $role"
  # A stream of events has no end.
  "$schemathesis" run "$(cat state/address)/api/v1/openapi.json" \
    -H "Authorization: Bearer $(cat $role.token)" --exclude-path /api/v1/events \
    --checks not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance \
    --phases examples,coverage,fuzzing -n "$examples" --rate-limit 90/s --warnings off --no-color
  kill -0 "$service"
done
if grep -q ' ERROR \|panicked' log; then
  grep ' ERROR \|panicked' log
  exit 1
fi
