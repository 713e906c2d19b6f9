"""What stands between Bystander and a trial: the small process that starts it, its scratch, what ends its tree."""
