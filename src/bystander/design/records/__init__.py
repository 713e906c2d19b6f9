"""What an observation leaves: trials and readings, evidence, the machine; as frozen types."""
