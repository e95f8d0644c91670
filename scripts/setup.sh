#!/usr/bin/env bash
# Installs what is missing on a Debian 12 machine with Go and Node. Quick when
# nothing is.
#   setup.sh demo   what the application needs
#   setup.sh test   and what the tests need
set -euo pipefail
cd "$(dirname "$0")/.."

need=()
command -v mariadbd >/dev/null || [ -x /usr/sbin/mariadbd ] || need+=(mariadb-server)
if [ "${1:-demo}" = test ]; then
  command -v chromium >/dev/null || need+=(chromium)
  # Archives and pictures that other programs wrote, and programs to read ours.
  for pair in ppmtotga:netpbm unzip:unzip zip:zip 7z:p7zip-full xz:xz-utils zstd:zstd bzip2:bzip2 xmllint:libxml2-utils pdftoppm:poppler-utils; do
    command -v "${pair%%:*}" >/dev/null || need+=("${pair#*:}")
  done
  # The schema of COLLADA comes with it.
  [ -e /usr/lib/python3/dist-packages/collada/resources/schema-1.4.1.xml ] || need+=(python3-collada)
fi
if [ ${#need[@]} -gt 0 ]; then
  echo "installing ${need[*]} from Debian's packages"
  sudo=""
  if [ "$(id -u)" != 0 ]; then
    command -v sudo >/dev/null || { echo "setup: ${need[*]} must be installed; run as root: apt-get install ${need[*]}" >&2; exit 1; }
    sudo=sudo
  fi
  # Installing a server must not start one on this machine: ours is private.
  policy=/usr/sbin/policy-rc.d
  made=""
  if [ ! -e $policy ]; then
    printf '#!/bin/sh\nexit 101\n' | $sudo tee $policy >/dev/null
    $sudo chmod +x $policy
    made=1
  fi
  trap '[ -z "$made" ] || $sudo rm -f $policy' EXIT
  $sudo apt-get update -qq
  $sudo env DEBIAN_FRONTEND=noninteractive apt-get install -y -qq --no-install-recommends "${need[@]}" >/dev/null
fi
for tool in go node npm; do
  command -v $tool >/dev/null || { echo "setup: $tool is not on this machine; install Go 1.26 and Node 20 or newer" >&2; exit 1; }
done
if [ ! -e web/node_modules/.done ] || [ web/package-lock.json -nt web/node_modules/.done ]; then
  echo "installing the interface's packages"
  (cd web && npm ci --no-audit --no-fund --loglevel=error) && touch web/node_modules/.done
fi
