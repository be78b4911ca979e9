
is_virtual() {
    for one in $virtual; do
        [ "$one" != "$1" ] || return 0
    done
    return 1
}
# Whether a machine runs, and whether it has a routing daemon.
is_there() {
    if is_virtual "$1"; then
        [ -e "$disks/$1/pid" ] && kill -0 "$(cat "$disks/$1/pid")" 2>/dev/null
    else
        [ -e "/run/netns/$lab.$1" ]
    fi
}
speaks() {
    [ -e "$speaking/$1.ctl" ] || grep -qs bird.conf "$disks/$1/seed/user-data"
}
# on MACHINE COMMAND...: runs it there. A virtual machine has a port for that (see lab-commands in
# its seed), which takes one command at a time.
on() {
    at=$1
    shift
    if [ "$at" = "$station" ]; then
        "$@"
    elif is_virtual "$at"; then
        (flock 9 && say_to "$at" "$@") 9>"$disks/$at/lock"
    else
        ip netns exec "$lab.$at" "$@"
    fi
}
longest_answer=60 # seconds
say_to() {
    port=$disks/$1/commands
    shift
    command=
    for word; do
        command="$command '$(printf '%s' "$word" | sed "s/'/'\\\\''/g")'"
    done
    token=$$-$(date +%s%N)
    printf '%s %s\n' "$token" "$(printf '%s' "$command" | base64 -w 0)" |
        timeout "$longest_answer" tee "$port.in" >/dev/null || return 255
    answer=$(timeout "$longest_answer" sed -n "/^$token /{s///p;q}" "$port.out") || return 255
    printf '%s' "${answer#* }" | base64 -d
    return "${answer%% *}"
}
# told MACHINE COMMAND...: what the routing daemon of a machine answers.
told() {
    speaker=$1
    shift
    if is_virtual "$speaker"; then
        on "$speaker" birdc "$@" 2>/dev/null | sed 1d
    else
        birdc -s "$speaking/$speaker.ctl" "$@" 2>/dev/null | sed 1d
    fi
}
tables() {
    for name in $machines; do
        ! speaks "$name" || on "$name" sh -c 'ip route show proto bird; ip -6 route show proto bird'
    done
}
shell() {
    if is_virtual "$1"; then
        command -v socat >/dev/null || fail "a console needs socat"
        echo "the console of $1; Ctrl-] leaves it"
        cd "$disks/$1"
        exec socat -,raw,echo=0,escape=0x1d UNIX-CONNECT:console
    fi
    PS1="$1# "
    export PS1
    exec ip netns exec "$lab.$1" sh
}

# Whether KVM really runs a machine, which a /dev/kvm alone does not tell: one whose boot sector
# ends QEMU with status 1 gets 5 seconds.
accelerator() {
    {
        printf '\272\001\005\260\000\356\364'
        head -c 503 /dev/zero
        printf '\125\252'
    } >"$disks/probe"
    status=0
    [ ! -w /dev/kvm ] ||
        timeout -k 1 5 qemu-system-x86_64 -accel kvm -nodefaults -display none -m 16 \
            -drive "file=$disks/probe,format=raw" -device isa-debug-exit,iobase=0x501,iosize=2 \
            >/dev/null 2>&1 || status=$?
    if [ "$status" -eq 1 ]; then echo kvm; else echo tcg; fi
}

# prepare: before anything else is made.
prepare() {
    for program in qemu-system-x86_64 qemu-img; do
        command -v "$program" >/dev/null || fail "start needs $program"
    done
    [ "$(uname -m)" = x86_64 ] || fail "the machines are made for x86_64, not for $(uname -m)"
    mkdir -m 700 "$disks"
    accelerator=$(accelerator)
    boot_seconds=120
    if [ "$accelerator" = tcg ]; then
        boot_seconds=$((300 + 60 * $(echo $virtual | wc -w)))
        say "KVM does not work here: machines are emulated, which is slow"
    fi
}
# from FILE...: what a machine starts from must be there.
from() {
    for file; do
        [ -z "$file" ] || [ -r "$file" ] || fail "there is no $file"
    done
}

# boot MACHINE CPUS MEMORY DISK IMAGE KERNEL INITRD ARGUMENTS PORT=MAC...: starts a machine.
boot() {
    name=$1 cpus=$2 memory=$3 size=$4 image=$5 kernel=$6 initrd=$7 arguments=$8
    shift 8
    from "$image" "$kernel" "$initrd"
    own=$disks/$name
    mkdir "$own"
    cp -r "$here/seeds/$name" "$own/seed"
    mkfifo "$own/commands.in" "$own/commands.out"
    format=$(qemu-img info "$image" | sed -n 's/^file format: //p')
    qemu-img create -q -f qcow2 -F "$format" -b "$image" "$own/disk" ${size:+"${size}M"}
    for nic; do
        port=${nic%%=*}
        set -- "$@" -netdev "tap,id=$port,ifname=$port,script=no,downscript=no" \
            -device "virtio-net-pci,netdev=$port,mac=${nic#*=},romfile="
        shift
    done
    [ -z "$kernel" ] || set -- "$@" -kernel "$kernel" -append "$arguments"
    [ -z "$initrd" ] || set -- "$@" -initrd "$initrd"
    ( # the console's path is short from here, as those of sockets must be
        cd "$own"
        ip netns exec "$lab._wires" qemu-system-x86_64 -name "$lab/$name" \
            -machine "q35,accel=$accelerator" -cpu max -smp "$cpus" -m "$memory" \
            -nodefaults -no-user-config -display none -daemonize -pidfile "$own/pid" \
            -drive "file=$own/disk,format=qcow2,if=virtio" \
            -drive "driver=vvfat,dir=$own/seed,label=CIDATA,if=virtio,read-only=on" \
            -chardev "socket,id=console,path=console,server=on,wait=off,logfile=$own/console.log" \
            -serial chardev:console -device virtio-serial -device virtio-rng-pci \
            -chardev "pipe,id=commands,path=$own/commands" \
            -device virtserialport,chardev=commands,name=lab.commands "$@"
    ) || fail "$name does not start"
}
# await MACHINE: until it answers, which it does once it has all its settings.
await() {
    end=$(($(date +%s) + boot_seconds))
    until [ "$(longest_answer=5; on "$1" echo up)" = up ]; do
        is_there "$1" || fail "$1 has ended: $(tail -n 3 "$disks/$1/console.log")"
        [ "$(date +%s)" -lt "$end" ] ||
            fail "$1 does not answer for $boot_seconds s: $(tail -n 3 "$disks/$1/console.log")"
        sleep 1
    done
    say "$1 is up"
}
