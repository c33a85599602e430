"""How the guide is built: Sphinx with MyST, offline; see ``make docs``."""

import sys
from pathlib import Path

HERE = Path(__file__).parent
sys.path.insert(0, str(HERE))

from wyntaxis import __version__  # noqa: E402

project = "Wyntaxis"
author = "The Wyntaxis developers"
copyright = "GPL-3.0-or-later"
version = release = __version__
extensions = ["myst_parser", "declared"]
source_suffix = {".md": "markdown"}
exclude_patterns = ["_theme", "README.md"]
myst_enable_extensions = ["deflist", "colon_fence"]
myst_heading_anchors = 3
templates_path = []
html_theme = "_theme"
html_theme_path = ["."]
html_title = "Wyntaxis, the guide"
html_copy_source = False
html_show_sphinx = False
html_last_updated_fmt = None
html_use_index = False
html_domain_indices = False
nitpicky = True
