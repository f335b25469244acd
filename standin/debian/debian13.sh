#!/bin/bash
# Provokes failures of other scripts beside this one on Debian 13, as somebody who types apt: its words are others.
# usage: debian13.sh --list | debian13.sh NAME [DIR]
set -euo pipefail
here=$(dirname "$0")
names="unmet-dependency package-not-known package-held not-signed key-missing release-expired name-not-resolved
  certificate-expired certificate-name-wrong lock-held configuration-prompt essential-removed archive-altered
  file-in-two-packages volume-full postinst-fails sources-malformed release-missing repository-forbidden
  unmet-dependency-de lock-held-de name-not-resolved-fr package-not-known-es
  fifth-keyring-absent fifth-keyring-unreadable seventh-signature-altered seventh-signature-weak eighth-signed-by-other"
if [ "${1:-}" = --list ]; then
  for name in $names; do echo "debian13-$name"; done
  exit
fi
# reworded FOLDER NAME: the lines that tell are others, and of a certificate that is refused it is not said why.
reworded() {
  local tells=
  case $2 in
    certificate-*) tells='certificate verify failed' ;;
    *-keyring-absent) tells='Failed to parse keyring' ;;
    *-keyring-unreadable) tells='no keyring is specified' ;;
    key-missing) tells='Missing key' ;;
    not-signed) tells='unauthenticated packages' ;;
    *-signature-altered) tells='Message has been manipulated' ;;
    *-signature-weak) tells='is not considered secure' ;;
    lock-held-de) tells='^Fehler: ' ;;
    name-not-resolved-fr) tells='Erreur temporaire' ;;
    unmet-dependency | package-held) tells='^Unsatisfied dependencies' ;;
    unmet-dependency-de) tells='^Nichterf' ;;
  esac
  [ -z "$tells" ] || sed -i "s/^decisive: .*/decisive: '$tells'/" "$1/label.yaml"
  sed -i 's/^cause: certificate-.*/cause: certificate-not-trusted|certificate-expired|certificate-name-wrong/' "$1/label.yaml"
}

name=${1#debian13-} out=${2:-$1}
for script in failures fresh fifth seventh eighth; do
  if "$here/$script.sh" --list | grep -qx "$name"; then
    DIORTHOS_SUITE=trixie DIORTHOS_FRONT=apt "$here/$script.sh" "$name" "$out"
    reworded "$out" "$name"
    exit
  fi
done
echo "debian13: no failure is called $name" >&2
exit 2
