"""OVF packages (DMTF DSP0243), as other programs write them."""
