"""Height maps, profiles and scans: what they hold, how they are assembled, merged and cut into sections."""
