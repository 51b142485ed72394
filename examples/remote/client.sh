# The same with curl. The token goes through a file, so that no list of processes shows it.
set -euo pipefail
head=$(mktemp)
trap 'rm -f "$head"' EXIT
chmod 600 "$head"
echo "Authorization: Bearer $PENDEL_TOKEN" >"$head"
call() {
    curl -sS --fail -H @"$head" -d "{\"jsonrpc\": \"2.0\", \"id\": 1, \"method\": \"$1\", \"params\": $2}" "$PENDEL_ADDRESS"
}
call drive.set '{"name": "K_p", "value": "30 A*s/m"}' >/dev/null
run=$(call drive.run '{"until": "50 ms"}' | sed -n 's/.*"run":"\([^"]*\)".*/\1/p')
call run.trace "{\"run\": \"$run\", \"signal\": \"door_motor.current\"}" |
    sed -n 's/.*"y":\[\([^]]*\)\].*/\1/p' | tr ',' '\n' | LC_ALL=C sort -g | tail -n 1
