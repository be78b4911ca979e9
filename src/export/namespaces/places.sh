
# Whether a machine runs, and whether it has a routing daemon.
is_there() { [ -e "/run/netns/$lab.$1" ]; }
speaks() { [ -e "$speaking/$1.ctl" ]; }
# on MACHINE COMMAND...: runs it there.
on() {
    at=$1
    shift
    if [ "$at" = "$station" ]; then
        "$@"
    else
        ip netns exec "$lab.$at" "$@"
    fi
}
# told MACHINE COMMAND...: what the routing daemon of a machine answers.
told() {
    on=$1
    shift
    birdc -s "$speaking/$on.ctl" "$@" 2>/dev/null | sed 1d
}
shell() {
    PS1="$1# "
    export PS1
    exec ip netns exec "$lab.$1" sh
}
tables() {
    for conf in "$speaking"/*.conf; do
        space=$lab.$(basename "$conf" .conf)
        ip -n "$space" route show proto bird
        ip -n "$space" -6 route show proto bird
    done
}
