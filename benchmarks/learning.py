"""Of how many services made up at random one is learned from its sample and answers, without help.

    python benchmarks/learning.py [DRAWS] [SEED]

The services are those of tests/made_up_services.py, made up by the people who wrote the learning: names, nesting,
ways of giving the key, the model, the pictures and the answer, and how the page is written, drawn at random, each with a server that takes what is built so and nothing else.
Each is asked about one picture, about none, and, where it takes a list, about two.
"""

import sys
import tempfile
import time
from pathlib import Path

from hypothesis import HealthCheck, Phase, given, seed, settings

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from made_up_services import PNG, MadeUp, MadeUpServer, services
from test_made_up import Wrong, what_goes_wrong


def main() -> None:
    draws = int(sys.argv[1]) if len(sys.argv) > 1 else 200
    number = int(sys.argv[2]) if len(sys.argv) > 2 else 20261123
    server, wrongs, drawn = MadeUpServer(), list[Wrong](), 0
    started = time.perf_counter()
    with tempfile.TemporaryDirectory() as folder:
        (Path(folder) / "p.png").write_bytes(PNG)

        @seed(number)
        @settings(max_examples=draws, deadline=None, database=None, phases=[Phase.generate],
                  suppress_health_check=list(HealthCheck))  # fmt: skip
        @given(services())
        def one(service: MadeUp) -> None:
            nonlocal drawn
            drawn += 1
            server.service = service
            wrong = what_goes_wrong(service, server, Path(folder))
            wrongs.extend([wrong] if wrong else [])

        one()
    server.close()
    unmarked = sum(not wrong.marked for wrong in wrongs)
    print(f"{drawn - len(wrongs)} of {drawn} learned and answered without help (aim: 95 %)")
    print(f"{unmarked} went wrong without a guess being marked (aim: none)")
    print(f"{time.perf_counter() - started:.0f} seconds")


if __name__ == "__main__":
    main()
