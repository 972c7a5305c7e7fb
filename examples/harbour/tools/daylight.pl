# Sunrise and sunset at Kelmere, 51.9 N 14.2 W on our own chart, to a few minutes.
use strict;
use warnings;
use JSON::PP;
use POSIX qw(floor);
use Time::Local qw(timegm);

my $call = decode_json(join '', <STDIN>);
my ($y, $m, $d) = split /-/, $call->{args}{day};
my $noon = eval { timegm(0, 0, 12, $d, $m - 1, $y) } or do { print STDERR "$call->{args}{day}\n"; exit 3 };
print STDERR "place 51.9 N, 14.2 W\n";

my $rad  = atan2(1, 1) / 45;
my $days = ($noon - timegm(0, 0, 12, 1, 0, 2000)) / 86400;
my $mean = (357.5291 + 0.98560028 * $days) * $rad;
my $long = ($mean / $rad + 1.9148 * sin($mean) + 0.02 * sin(2 * $mean) + 282.9372) * $rad;
my $sdec = sin($long) * sin(23.44 * $rad);
my $dec  = atan2($sdec, sqrt(1 - $sdec * $sdec));
my $cosw = (sin(-0.833 * $rad) - sin(51.9 * $rad) * $sdec) / (cos(51.9 * $rad) * cos($dec));
my $w    = atan2(sqrt(1 - $cosw * $cosw), $cosw) / $rad / 15;    # hours either side of noon
my $high = 12 + 14.2 / 15 - (0.0053 * sin($mean) - 0.0069 * sin(2 * $long)) * -24;

# Summer time: from the last Sunday of March to the last of October.
sub last_sunday {
    my ($year, $month) = @_;
    my $end = timegm(0, 0, 1, 31, $month, $year);
    return $end - (gmtime $end)[6] * 86400;
}
$high += 1 if $noon > last_sunday($y, 2) && $noon < last_sunday($y, 9);

sub clock { my $t = floor($_[0] * 60 + 0.5); return sprintf '%02d:%02d', floor($t / 60), $t % 60 }
print encode_json({rises => clock($high - $w), sets => clock($high + $w), hours => floor($w * 20 + 0.5) / 10});
