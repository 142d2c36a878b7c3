#!/usr/bin/env bash
# Installs what the program needs besides Go, Node and npm, Debian's MariaDB server, and, with the word tests, what its tests need: Debian's Chromium for those of the console, its kcat
# as an ordinary client of brokers, its PostgreSQL, mosquitto, NATS and AMQP servers, and a C compiler for the race detector. Does nothing where all are there.
set -euo pipefail
missing=()
for tool in go node npm; do
	command -v "$tool" >/dev/null || { echo "please install $tool first" >&2; exit 1; }
done
PATH=$PATH:/usr/sbin
command -v mariadbd >/dev/null || missing+=(mariadb-server)
if [ "${1:-}" = tests ]; then
	command -v gcc >/dev/null || missing+=(gcc libc6-dev) # for the race detector
	command -v chromium >/dev/null || missing+=(chromium fonts-liberation)
	command -v kcat >/dev/null || missing+=(kcat)
	command -v mosquitto >/dev/null || missing+=(mosquitto)
	command -v mosquitto_pub >/dev/null || missing+=(mosquitto-clients)
	command -v socat >/dev/null || missing+=(socat)
	command -v curl >/dev/null || missing+=(curl)
	command -v openssl >/dev/null || missing+=(openssl)
	[ -e /usr/lib/rabbitmq/bin/rabbitmq-server ] || missing+=(rabbitmq-server)
	command -v nats-server >/dev/null || missing+=(nats-server)
	compgen -G '/usr/lib/postgresql/*/bin/postgres' >/dev/null || missing+=(postgresql)
fi
[ ${#missing[@]} -gt 0 ] || exit 0
command -v apt-get >/dev/null || { echo "please install: ${missing[*]}" >&2; exit 1; }
as_root=()
if [ "$(id -u)" != 0 ]; then
	command -v sudo >/dev/null || { echo "as root: apt-get install ${missing[*]}" >&2; exit 1; }
	as_root=(sudo)
fi
export DEBIAN_FRONTEND=noninteractive
echo "installing ${missing[*]}"
"${as_root[@]}" apt-get update -qq
"${as_root[@]}" apt-get install -y -qq --no-install-recommends "${missing[@]}" >/dev/null
