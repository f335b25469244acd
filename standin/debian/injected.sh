#!/bin/bash
# Provokes failures at random: a run of apt or dpkg, in which the kernel refuses one call on one path that this run really
# makes, both drawn by a seed. What was refused is the truth; the tools say of it what they say.
# usage: injected.sh SEED COUNT DIR
. "$(dirname "$0")/lib.sh"

[ $# = 3 ] || { sed -n '2,4s/^# //p' "$0"; exit 2; }
seed=$1 count=$2 to=$3
need_root
command -v strace >/dev/null || die "strace is missing: apt-get install strace"

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
# What the kernel can answer to a call, and the causes that are then right.
answers_of() {
  case $1 in
    openat) echo EIO EACCES EROFS ENOSPC EMFILE ENFILE ELOOP EDQUOT ESTALE ENOTDIR ENOMEM EPERM ;;
    write | pwrite64 | fsync | ftruncate | fallocate) echo ENOSPC EIO EDQUOT EFBIG EROFS ;;
    read | pread64 | getdents64) echo EIO ESTALE ;;
    rename | renameat2 | link | linkat | symlink | symlinkat | mkdir | mkdirat | mknod) echo EIO EACCES EROFS ENOSPC EDQUOT EPERM ;;
    unlink | unlinkat | rmdir) echo EPERM EROFS EBUSY EIO ;;
    chmod | fchmod | fchmodat | chown | fchown | lchown | fchownat | utimensat) echo EPERM EROFS EIO ;;
    execve) echo EACCES ENOENT ENOEXEC ETXTBSY EIO ENOMEM E2BIG ;;
    newfstatat | lstat | stat | access) echo EACCES EIO ELOOP ESTALE ;;
  esac
}
causes_of() {
  case $1 in
    ENOSPC) echo 'volume-full|download-volume-full|boot-volume-full|inodes-used-up' ;;
    EIO) echo 'device-io-error|disk-dying|file-system-damaged' ;;
    EROFS) echo volume-read-only ;;
    EACCES | EPERM) echo 'no-permission|file-immutable|not-run-as-root|program-may-not-run|volume-noexec|script-unrunnable' ;;
    EMFILE | ENFILE) echo too-many-open-files ;;
    ELOOP) echo link-loop ;;
    EDQUOT) echo quota-exceeded ;;
    EFBIG) echo file-too-large ;;
    ESTALE) echo share-gone-stale ;;
    ENOTDIR) echo path-is-no-folder ;;
    ENOMEM) echo memory-exhausted ;;
    EBUSY | ETXTBSY) echo path-busy ;;
    ENOENT) echo 'script-unrunnable|package-tool-missing|script-needs-a-program|programs-cannot-start|tool-folder-missing|library-missing' ;;
    ENOEXEC) echo 'script-unrunnable|programs-cannot-start|wrong-architecture|program-may-not-run' ;;
    E2BIG) echo arguments-too-long ;;
  esac
}
text_of() { perl -MErrno -e '$! = Errno->can($ARGV[0])->(); print "$!"' "$1"; }

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
  lower=$root
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
end() { umount -l "$root/dev/pts" "$root/dev" "$root/proc" "$root"; root=$lower; rm -rf "$work/layer/case"; }

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

mkdir -p "$to"
prepared
grid
RANDOM=$seed
made=0
silent=0
while [ "$made" -lt "$count" ]; do
  i=$((RANDOM % ${#runs[@]}))
  # By call first: else nearly all would be looks at files.
  call=$(cut -f1 "$work/grid.$i" | sort -u | sed -n "$((RANDOM % $(cut -f1 "$work/grid.$i" | sort -u | wc -l) + 1))p")
  path=$(awk -F'\t' -v c="$call" '$1 == c { print $2 }' "$work/grid.$i" | sed -n "$(((RANDOM * 32768 + RANDOM) % $(awk -F'\t' -v c="$call" '$1 == c' "$work/grid.$i" | wc -l) + 1))p")
  list=($(answers_of "$call")); answer=${list[RANDOM % ${#list[@]}]}
  name=injected-$seed-$(printf '%03d' "$made")
  made=$((made + 1))
  begin
  rm -f "$work"/*.txt "$work/label.yaml"
  console "strace -f --seccomp-bpf -qq -e signal=none -P '$path' -e trace=$call -e inject=$call:error=$answer -o /refused.trace ${runs[$i]}; echo \$? >/status" 2>/dev/null
  tried=${runs[$i]}
  if [ -s "$root/refused.trace" ] && [ "$(cat "$root/status" 2>/dev/null)" != 0 ]; then
    # Where no tool passed the answer on, nothing can tell it from the logs: those are counted, not kept.
    if ! grep -qaF "$(text_of "$answer")" "$work/console.txt" "$root/var/log/apt/term.log"; then
      silent=$((silent + 1)); end; continue
    fi
    label "$(causes_of "$answer")" "$(text_of "$answer")"
    printf '# %s refused with %s on %s\n' "$call" "$answer" "$path" >>"$work/label.yaml"
    mirror=$(mirror_of "$suite")
    capture "$to/$name"
    say "$name: $tried: $call $answer $path"
  fi
  end
done
say "$made drawn; $(find "$to" -maxdepth 1 -name "injected-$seed-*" | wc -l) failed and said why, $silent failed and did not"
