#!/bin/bash
# Lays out a small Debian system in a folder, from the packages of the system that this runs on: no network is needed.
# usage: folder.sh ROOT
set -e
root=$1; mkdir -p "$root"
names=$(dpkg-query -W -f '${Essential} ${Priority} ${Package} ${db:Status-Abbrev}\n' |
  awk '($1 == "yes" || $3 == "apt" || $3 == "dpkg" || $3 == "mawk") && $NF == "ii" { print $(NF-1) }' | sort -u)
for round in 1 2 3 4 5 6; do
  names=$( (echo "$names"; dpkg-query -W -f '${Pre-Depends}, ${Depends}\n' $names 2>/dev/null | tr ',|' '\n\n' |
    sed -E 's/^ *([a-z0-9+.-]+).*/\1/' | sort -u | while read -r n; do
      [ -z "$n" ] || dpkg-query -W -f '${Package}\n' "$n" 2>/dev/null; done) | sort -u)
done
for d in bin sbin lib lib64; do mkdir -p "$root/usr/$d"; ln -s usr/$d "$root/$d"; done
mkdir -p "$root"/{dev,proc,sys,run,tmp,home/anna,srv,root,etc/apt/{preferences.d,apt.conf.d,trusted.gpg.d,sources.list.d},var/lib/dpkg/info,var/lib/dpkg/updates} \
  "$root"/var/lib/{dpkg/triggers,dpkg/parts,dpkg/alternatives,apt/lists/partial} "$root"/var/cache/{apt/archives/partial,debconf} \
  "$root"/var/log/apt "$root"/var/tmp "$root"/etc/alternatives "$root"/repo
chmod 1777 "$root/tmp" "$root/var/tmp"
dpkg-query -L $names 2>/dev/null | sort -u | sed 's#^/\(bin\|sbin\|lib\|lib64\)/#/usr/\1/#' |
  grep -vE '^/usr/share/(doc|man|locale|info)/|^/(bin|sbin|lib|lib64)$' | while read -r f; do
    if [ -f "$f" ] || [ -L "$f" ]; then echo "${f#/}"; fi; done |
  tar -C / --no-recursion -T - -cf - 2>/dev/null | tar -C "$root" -xf -
dpkg-query -L $names 2>/dev/null | sort -u | grep -vE '^/usr/share/(doc|man|locale|info)/' | while read -r f; do
  if [ -d "$f" ] && [ ! -e "$root$f" ]; then echo "$root$f"; fi; done | xargs mkdir -p
for n in $names; do
  dpkg-query -s "$n" 2>/dev/null | awk 'NF'; echo
  for f in /var/lib/dpkg/info/"$n".* /var/lib/dpkg/info/"$n":*.*; do [ ! -e "$f" ] || cp "$f" "$root/var/lib/dpkg/info/"; done
done >"$root/var/lib/dpkg/status"
for f in "$root"/var/lib/dpkg/info/*.list; do grep -vE '^/usr/share/(doc|man|locale|info)/' "$f" >"$f.x"; mv "$f.x" "$f"; done
cp /var/lib/dpkg/info/format "$root/var/lib/dpkg/info/"
: >"$root/var/lib/dpkg/available"; : >"$root/etc/apt/sources.list"
cp /etc/passwd /etc/group /etc/shadow /etc/gshadow "$root/etc/"
cp /usr/lib/os-release "$root/usr/lib/"; ln -sf ../usr/lib/os-release "$root/etc/os-release"
cp /var/lib/dpkg/alternatives/awk "$root/var/lib/dpkg/alternatives/" 2>/dev/null && cp -P /etc/alternatives/awk "$root/etc/alternatives/" || :
cp -P /usr/bin/awk "$root/usr/bin/"
echo lerrick-kiosk-2 >"$root/etc/hostname"
echo "the harbour's timetable" >"$root/home/anna/letter"
ldconfig -r "$root"
