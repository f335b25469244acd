#!/bin/bash
# Provokes failures at random: a run of apt or dpkg, in which the kernel refuses one call on one path that this run really
# makes, both drawn by a seed. What was refused is the truth; the tools say of it what they say.
# usage: injected.sh SEED COUNT DIR
. "$(dirname "$0")/lib.sh"
. "$(dirname "$0")/chance.sh"

[ $# = 3 ] || { sed -n '2,4s/^# //p' "$0"; exit 2; }
seed=$1 count=$2 to=$3
need_root
command -v strace >/dev/null || die "strace is missing: apt-get install strace"

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

mkdir -p "$to"
prepared
grid
RANDOM=$seed
made=0
silent=0
while [ "$made" -lt "$count" ]; do
  drawn
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
