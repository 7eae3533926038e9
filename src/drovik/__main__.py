"""`python -m drovik` is the same as `drovik`."""

from drovik.cli.main import main

raise SystemExit(main())
