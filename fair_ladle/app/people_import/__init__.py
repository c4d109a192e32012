"""People import: a list of people that an admin uploads, maps on screen and loads in parts. `data_import` is another
thing: the operator's intake of every table, loaded whole."""
