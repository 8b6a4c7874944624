DROP TABLE certified_values, certificates, standard_lots, standards, instrument_events, set_ups,
    instruments, shift_instances, shift_starts, areas, sites;
