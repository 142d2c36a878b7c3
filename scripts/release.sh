#!/usr/bin/env bash
# Makes what is shipped, into a directory (default release): the static program, its manual pages and completions, an archive of them, a Debian package, and what an image is built of.
set -euo pipefail
out=$(realpath -m "${1:-release}")
cd "$(dirname "$0")/.."
[ -f console/dist/index.html ] || { echo "build the console first: make build" >&2; exit 1; }
arch=$(go env GOARCH)
mkdir -p "$out"
tree=$(mktemp -d)
trap 'rm -rf "$tree"' EXIT
root=$tree/root
mkdir -p "$root"/usr/bin "$root"/usr/share/man/man1 "$root"/usr/share/bash-completion/completions "$root"/usr/share/zsh/vendor-completions "$root"/usr/share/fish/vendor_completions.d \
	"$root"/usr/share/doc/fiume "$root"/usr/lib/systemd/system "$root"/etc/fiume "$root"/DEBIAN
export CGO_ENABLED=0 GOFLAGS="${GOFLAGS:-} -trimpath"
go build -ldflags '-s -w' -o "$root/usr/bin/fiume" ./cmd/fiume
fiume=$root/usr/bin/fiume
version=$("$fiume" version --output json | sed -n 's/.*"version": "\([^"]*\)".*/\1/p')
go run -ldflags '-s -w' ./scripts/manpages "$root/usr/share/man/man1"
gzip -n9 "$root"/usr/share/man/man1/*.1
"$fiume" completion bash > "$root/usr/share/bash-completion/completions/fiume"
"$fiume" completion zsh > "$root/usr/share/zsh/vendor-completions/_fiume"
"$fiume" completion fish > "$root/usr/share/fish/vendor_completions.d/fiume.fish"
cp -r docs/manual docs/operate "$root/usr/share/doc/fiume/"
cp LICENSE "$root/usr/share/doc/fiume/copyright"
cp packaging/fiume.service "$root/usr/lib/systemd/system/"
install -m 0644 packaging/fiume.yaml "$root/etc/fiume/fiume.yaml"
name=fiume-$version-linux-$arch
mkdir "$tree/$name"
cp -r "$root/usr/bin/fiume" "$root/usr/share/man" "$root/usr/share/bash-completion" "$root/usr/share/zsh" "$root/usr/share/fish" packaging/fiume.service packaging/fiume.yaml LICENSE "$tree/$name/"
cp -r "$root/usr/share/doc/fiume" "$tree/$name/doc"
tar -C "$tree" -czf "$out/$name.tar.gz" "$name"

cat > "$root/DEBIAN/control" <<CONTROL
Package: fiume
Version: $version
Architecture: $arch
Maintainer: Fiume <packages@fiume.example>
Section: database
Priority: optional
Installed-Size: $(du -sk "$root" | cut -f1)
Depends: mariadb-server-core, mariadb-client-core, passwd
Description: streaming ETL with event-time SQL
 A service that reads message topics, files and databases, filters, joins and
 counts rows by when things happened, and writes what comes of it, each row once.
CONTROL
echo /etc/fiume/fiume.yaml > "$root/DEBIAN/conffiles"
install -m 0755 packaging/postinst packaging/prerm "$root/DEBIAN/"
(cd "$root" && find usr etc -type f -print0 | sort -z | xargs -0 md5sum > DEBIAN/md5sums)
dpkg-deb --root-owner-group -Z"${COMPRESS:-xz}" -z"${LEVEL:-6}" --build "$root" "$out/fiume_${version}_$arch.deb" >/dev/null
cp packaging/Containerfile "$out/"
cp "$root/usr/bin/fiume" "$out/fiume"
(cd "$out" && sha256sum fiume "$name.tar.gz" "fiume_${version}_$arch.deb" > SHA256SUMS)
ls -l "$out"
