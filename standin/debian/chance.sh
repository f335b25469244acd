# Shared by the scripts that make runs of apt and dpkg fail by chance; source it after lib.sh, and draw with RANDOM=SEED.
# shellcheck shell=bash

runs=(
  "apt-get -y install /repo/skerrow-anchor_6.2_all.deb"
  "apt-get -y install --no-install-recommends cron logrotate"
  "apt-get -y install --no-install-recommends openssh-server"
  "apt-get -y install --reinstall bash tree"
  "apt-get -y purge tree"
  "apt-get update"
  "dpkg -i /repo/skerrow-anchor_6.2_all.deb"
  "apt-get -y install /repo/skerrow-timetable_3.2_all.deb"
  "apt-get -y install --reinstall initramfs-tools"
)

# prepared makes the root in which every run begins: what is to be installed lies in the cache.
prepared() {
  scratch lerrick-kiosk-2
  with_packages strace tree
  inside apt-get -y -qq -d install --no-install-recommends cron logrotate openssh-server >/dev/null
  inside apt-get -y -qq -d install --reinstall bash tree initramfs-tools >/dev/null
  deb skerrow-timetable 3.1; have skerrow-timetable_3.1_all.deb
  filled "$work/skerrow-timetable/usr/share/skerrow/tides" 40
  deb skerrow-timetable 3.2
  mkdir -p "$work/skerrow-anchor/etc"; echo berth=3 >"$work/skerrow-anchor/etc/anchor.conf"
  filled "$work/skerrow-anchor/usr/share/anchor/chart" 200
  printf '%s\n' 'mkdir -p /var/lib/anchor' 'cp /usr/share/anchor/chart /var/lib/anchor/chart' \
    'sed -e s/3/4/ /etc/anchor.conf >/var/lib/anchor/current' 'chown daemon /var/lib/anchor' \
    'install -m 755 /bin/true /usr/local/bin/anchor' 'ln -sf /var/lib/anchor/current /etc/anchor.current' | script_of skerrow-anchor postinst
  deb skerrow-anchor 6.2
  : >"$root/var/log/dpkg.log"; : >"$root/var/log/apt/history.log"; : >"$root/var/log/apt/term.log"
  # Laid flat: a draft over a layer over a layer would be one too many for the kernel.
  lower=$work/layer/flat
  mkdir -p "$lower"
  umount -l "$root/dev/pts" "$root/dev" "$root/proc"
  cp -a "$root/." "$lower/"
}

# begin lays a throw-away layer over the prepared root.
begin() {
  local layer=$work/layer/case
  mkdir -p "$work/layer/"{now,u,w}; rm -rf "$layer"; mkdir -p "$layer"/{u,w} "$work/case"
  root=$work/case
  mount -t overlay overlay -o "lowerdir=$lower,upperdir=$layer/u,workdir=$layer/w" "$root"
  mount -t proc proc "$root/proc"; mount -t devtmpfs devtmpfs "$root/dev" 2>/dev/null || mount --bind /dev "$root/dev"
  mount -t devpts devpts "$root/dev/pts" -o newinstance,ptmxmode=0666
}
end() { umount -l "$root/dev/pts" "$root/dev" "$root/proc" "$root"; rm -rf "$work/layer/case"; }

calls=openat,write,pwrite64,fsync,ftruncate,fallocate,read,pread64,getdents64,rename,renameat2,link,linkat,symlink,symlinkat,mkdir,mkdirat,mknod,unlink,unlinkat,rmdir,chmod,fchmod,fchmodat,chown,fchown,lchown,fchownat,utimensat,execve,newfstatat,lstat,stat,access

# grid lists, for each run, the calls on paths that it makes and that succeed.
grid() {
  local i
  for i in "${!runs[@]}"; do
    begin
    inside sh -c "export DEBIAN_FRONTEND=noninteractive; exec strace -f --seccomp-bpf -yy -qq -e signal=none -e trace=$calls -o /grid.trace ${runs[$i]}" >/dev/null 2>&1 </dev/null || true
    perl -ne '
      next unless /^\d+\s+(\w+)\(/; my $call = $1; next if /= -1 /;
      my ($path) = $call =~ /^(read|write|pread64|pwrite64|fsync|ftruncate|fallocate|getdents64|fchmod|fchown)$/ ? /^\d+\s+\w+\(\d+<([^<>]+)>/ : /"(\/[^"]+)"/;
      next unless $path && $path =~ m{^/} && $path !~ m{^/(proc|dev|sys)(/|$)};
      print "$call\t$path\n" unless $seen{"$call $path"}++' "$root/grid.trace" >"$work/grid.$i"
    end
  done
}

# drawn takes a run, a call that it makes, and a path on which it makes it: into $i, $call and $path. By call first: else
# nearly all would be looks at files.
drawn() {
  i=$((RANDOM % ${#runs[@]}))
  one_of call sh -c 'cut -f1 "$0" | sort -u' "$work/grid.$i"
  one_of path awk -F'\t' -v c="$call" '$1 == c { print $2 }' "$work/grid.$i"
}

# one_of VARIABLE COMMAND… takes one line of what a command prints.
one_of() {
  local list variable=$1
  shift
  mapfile -t list < <("$@")
  printf -v "$variable" %s "${list[$(((RANDOM * 32768 + RANDOM) % ${#list[@]}))]}"
}
