"""A terminal session of the kind of device that `ovek sheet new` starts with."""

SESSION = """\
box# system
Model: BX1
Version: 3.1
box# volumes
flash 1000 400
box# files flash
  100 2026-01-02 03:04 image-3.1.img
--more--\r        \r   20 2026-01-02 03:04 site.cfg
box# boot
boot flash:image-3.1.img
box# digest sha256 flash:image-3.1.img
sha256 SHA
box# exit
""".replace("SHA", "a" * 64)
