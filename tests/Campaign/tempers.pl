#!/usr/bin/perl
# tempers.pl NAME TEMPER WITNESS-DIRECTORY: a program under trial. It holds a lock of its own name for as long as anything
# of it lives, and writes into the directory when it finds the lock taken: then there are two of it.
use strict;
use warnings;
use Fcntl qw(:flock);
use IO::Handle;
use POSIX qw(setsid);
use Time::HiRes qw(sleep time);

my ($name, $temper, $witness) = @ARGV;
my ($run) = ($ENV{CALM_RUN} // '') =~ /:(\d+)$/;
$| = 1;
open my $lock, '>>', "$witness/$name.lock" or die "$witness/$name.lock: $!";
unless (flock $lock, LOCK_EX | LOCK_NB) {
    open my $doubled, '>>', "$witness/doubled" or die;
    printf $doubled "%s run %s pid %d at %.3f\n", $name, $run, $$, time;
    close $doubled;
}
srand($$ ^ time);

# Beside a program that gets new files lie two that must be of one version; of a bad one it falls at once.
(my $home = $0) =~ s|/[^/]*$||;
if (-e "$home/first") {
    my @of = map { open my $file, '<', "$home/$_" or die "$_: $!"; <$file> } qw(first second);
    if ($of[0] ne $of[1]) {
        open my $mixed, '>>', "$witness/mixed" or die;
        print $mixed "$name run $run: $of[0] and $of[1]\n";
    }
    exit 7 if $of[0] =~ /bad/;
}

sub child { fork // exit 9 }    # where no process can be made, it falls

sub count {    # numbered lines, by which a lost one is seen
    my ($seconds, $beat) = @_;
    my $until = $seconds ? time + $seconds : 0;
    for (my $n = 0 ; !$until || time < $until ; $n++) { print "$run $n\n"; sleep $beat }
}
sub end_of {    # the last whole line of a file
    open my $file, '<', $_[0] or return;
    my $last;
    while (<$file>) { $last = $_ if /\n$/ }
    return $last;
}

sub rotate {    # numbered lines in a log file of its own, which says first what the run before wrote last
    my $own = "$witness/$name/own.log";
    my $last = end_of($own) // end_of("$own.1") // "none\n";
    open my $log, '>>', $own or die "$own: $!";
    $log->autoflush(1);
    my $broken = -s $own && do { open my $file, '<', $own or die; seek $file, -1, 2; read $file, my $end, 1; $end ne "\n" };
    print $log "\n" if $broken;    # one killed in the middle of a line
    print $log "$run begins after $last";
    for (my $n = 0 ; ; $n++) {
        print $log "$run $n ", 'y' x 80, "\n";
        sleep 0.01;
        next if $n % 150 != 149;
        rename "$own." . $_, "$own." . ($_ + 1) for reverse 1 .. 5;
        rename $own, "$own.1" or die "$own: $!";
        open $log, '>>', $own or die "$own: $!";
        $log->autoflush(1);
    }
}

sub job {    # notes which moment it is for; sometimes it is at work for longer than until the next
    if (my $moment = $ENV{CALM_MOMENT}) {
        open my $file, '>>', "$witness/$name.moments" or die;
        print $file "$moment $run\n";
        close $file;
    }
    sleep(rand 4 < 1 ? 8 + rand 6 : rand 2);
}

sub asks {    # asks at its terminal, and takes down what it is told that it did not ask for
    my $told = sub { open my $file, '>>', "$witness/$_[0]" or die; print $file "$name run $run: $_[1]\n"; close $file };
    my $waiting = sub { my $set = ''; vec($set, 0, 1) = 1; select $set, undef, undef, $_[0] };
    for (my $n = 0 ; ; $n++) {
        sleep 0.1 + rand 0.5;
        $told->('answered twice', "question $n has an answer before it is asked") if $waiting->(0);
        print "is berth $n taken? ";
        unless ($waiting->(40)) { print "\n"; next }    # nobody knows it any more: a server was lost with it
        my $answer = <STDIN> // exit 0;
        $told->('answers', $n) if $answer eq "yes\n";
        $told->('answered twice', "question $n was answered '$answer'") if $answer ne "yes\n";
    }
}

sub shows {    # a window on its display with a dialog before it, with which it ends
    my $window = child();
    unless ($window) {
        open my $file, '>', "$ENV{CALM_STATE}/desk.tcl" or die;
        print $file "label .l -text {berth $run} -background #204060; pack .l; update; tk_messageBox -title {berth $run} -message taken; exit\n";
        close $file;
        exec '/usr/bin/wish', "$ENV{CALM_STATE}/desk.tcl" or exit 9;
    }
    waitpid $window, 0;
    exit 5;
}

my %tempers = (
    shows     => \&shows,
    asks      => \&asks,
    rotates   => \&rotate,
    job       => \&job,
    still     => sub { sleep 3600 while 1 },
    counts    => sub { count(0, 0.01) },
    falls     => sub { count(0.3 + rand 2, 0.01); exit 3 },
    dies      => sub { count(0.3 + rand 2, 0.01); kill KILL => $$; sleep 10 },
    stubborn  => sub { $SIG{TERM} = 'IGNORE'; count(0, 0.05) },
    slow      => sub { $SIG{TERM} = sub { sleep 0.3; exit 0 }; sleep 3600 while 1 },
    tree      => sub { for (1 .. 3) { child() or do { sleep 3600 while 1 } } count(0, 0.02) },
    leaves    => sub { child() or do { sleep 3600 while 1 }; sleep 0.5 + rand 2; exit 0 },
    wanders   => sub { child() or do { setsid(); child() and exit 0; sleep 3600 while 1 }; count(0, 0.02) },
    detaches  => sub { child() and exit 0; setsid(); sleep 3600 while 1 },
    ready     => sub { sleep 0.2; print "ready\n"; sleep 3600 while 1 },
    chatters  => sub { for (my $n = 0 ; ; $n++) { print "$run $n ", 'x' x 4000, "\n"; sleep 0.02 } },
);
$tempers{$temper}->();
