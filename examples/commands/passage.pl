use strict;
use warnings;
use JSON::PP;

my $call = decode_json(join '', <STDIN>);
my ($miles, $speed) = @{$call->{args}}{qw(miles speed_kn)};
if ($speed > 60) { print STDERR "$speed knots\n"; exit 4 }
print encode_json({hours => sprintf('%.2f', $miles / $speed) + 0});
