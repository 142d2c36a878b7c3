#!/usr/bin/env bash
# Fetches the broker's jars, checks them against the lock, and runs the tests against three brokers on loopback.
# LOCK=1 writes the lock anew, after the version in cluster/pom.xml was changed.
set -euo pipefail
cd "$(dirname "$0")/.."
for tool in java mvn; do
	if ! command -v "$tool" >/dev/null; then
		echo "$tool is missing, and a real cluster cannot be started: sudo apt-get install -y default-jre-headless maven" >&2
		exit 1
	fi
done
lib=$PWD/.cluster/lib
if [ -n "${LOCK:-}" ] || ! (cd "$lib" 2>/dev/null && sha256sum --quiet --strict -c ../../scripts/cluster/jars.sha256 2>/dev/null); then
	rm -rf .cluster
	mvn -q -B -f scripts/cluster/pom.xml dependency:copy-dependencies -DincludeScope=runtime "-DoutputDirectory=$lib"
	if [ -n "${LOCK:-}" ]; then
		(cd "$lib" && sha256sum -- *.jar) >scripts/cluster/jars.sha256
	fi
	(cd "$lib" && sha256sum --quiet --strict -c ../../scripts/cluster/jars.sha256)
fi
FIUME_BROKER_JARS=$lib go test -vet=off '-ldflags=-s -w' -count=1 -tags cluster -timeout 25m -run TestCluster ${ARGS:-} ./internal/connect/broker ./e2e
