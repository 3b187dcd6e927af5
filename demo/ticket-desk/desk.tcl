#!/usr/bin/wish
# The ticket desk at the quay: sells tickets for the next departures, and asks whoever keeps it two things a day.
#   desk.tcl TIMETABLE.csv
# DESK_NOON (12:00): when the drawer is to be counted.
set timetable [lindex $argv 0]
set noon [expr {[info exists env(DESK_NOON)] ? $env(DESK_NOON) : "12:00"}]
array set sold {}
set drawer 200

proc say {words} { puts $words; flush stdout }

# Lines of the timetable as lists: time, port, quay; the desk opens without one, too.
proc departures {} {
    global timetable
    if {[catch {open $timetable} file]} { say "no timetable: $file"; return {} }
    set lines [lrange [split [string trim [read $file]] \n] 0 6]
    close $file
    set all {}
    foreach line $lines { lappend all [split $line ";"] }
    return $all
}

proc sell {ship price} {
    global sold drawer
    incr sold($ship)
    incr drawer $price
    .foot configure -text "In the drawer: $drawer kr"
    say "sold a ticket: $ship"
}

proc ask {title words detail} {
    say "asks: $title"
    set answer [tk_messageBox -parent . -title $title -type yesno -icon question -message $words -detail $detail]
    say "answered: $title: $answer"
    return $answer
}

proc noon {} {
    global noon drawer
    if {[clock format [clock seconds] -format %H:%M] eq $noon} {
        ask "Count the drawer" "Are there $drawer kr in the drawer?" "It is $noon."
        after 61000 noon
    } else {
        after 1000 noon
    }
}

wm title . "Ticket desk"
wm geometry . 620x420+90+50
. configure -background #e9eef2
label .head -text "Skerry Line · tickets" -font {Helvetica 22 bold} -background #17415f -foreground white -pady 14
pack .head -fill x
frame .all -background #e9eef2
pack .all -fill both -expand 1 -padx 22 -pady 14
set row 0
foreach one [departures] {
    lassign $one time to quay
    label .all.t$row -text $time -font {Helvetica 14 bold} -background #e9eef2
    label .all.n$row -text "$to, quay $quay" -font {Helvetica 14} -background #e9eef2
    button .all.b$row -text "45 kr" -command [list sell "$time to $to" 45]
    grid .all.t$row .all.n$row .all.b$row -sticky w -padx 10 -pady 3
    grid columnconfigure .all 1 -weight 1
    incr row
}
label .foot -text "In the drawer: $drawer kr" -font {Helvetica 12} -background #e9eef2 -pady 8
pack .foot -side bottom
say "the desk is there"
after 500 {
    if {[ask "Open the desk" "Open the ticket desk?" "There are $drawer kr in the drawer."] eq "no"} { say "the desk stays closed"; exit }
    say "the desk is open"
}
noon
