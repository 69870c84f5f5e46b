"""Files in and out: STEP solids, VTU meshes."""
