"""What can be told of a body: how its faces meet, its symmetry, twins, walls, openings, where it cuts itself."""
