"""The day of a small harbour: tides, gauge telegrams, berths and notices. All of it is made up."""
