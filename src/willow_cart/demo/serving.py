"""The demo servers, kept running to play with."""

from __future__ import annotations

import shlex
import time
from collections.abc import Sequence
from pathlib import Path

from willow_cart.demo.example import SECRETS
from willow_cart.demo.places import Places, open_places


def serve(folder: Path, port: int) -> None:
    """Keep the servers running until interrupted, and suggest commands."""
    print("Starting the servers ...", flush=True)
    with open_places(folder, port) as places:
        print(f"The web server of the fictional Harrowmere Wetland Trust: {places.web}")
        print(f"The contractor's FTP outbox: {places.contractor}/outbox/")
        print(f"The same over SFTP: {places.ssh[0]}/outbox/")
        print(f"The object store: {places.store}")
        print(f"A partner's WebDAV server: {places.shared}/shared/")
        print(f"The portal for members, with a form: {places.portal}/members/")
        print(f"The ringing scheme, with tokens: {places.records}/records/")
        print(f"The nest register, with a host that vouches: {places.nests[0]}/vouched/")
        print(f"Their sign-ins, for the config file:\n\n{places.sign_ins}")
        print("The secrets that it names, for the shell:")
        for name, value in SECRETS.items():
            print(f"  export {name}={shlex.quote(value)}")
        print(f"Lists: {folder / 'addresses.txt'} and {folder / 'archive.csv'}\n")
        print("Try in another terminal:")
        for line in tour(places, folder):
            print(f"  willow-cart {line}")
        print("\nCtrl-C stops the servers.", flush=True)
        try:
            while True:
                time.sleep(3600)
        except KeyboardInterrupt:
            print("\nThe servers are stopped.")


def tour(places: Places, folder: Path) -> Sequence[str]:
    """Return commands to try in order, each after those before it."""
    refused = "# refuses a map, whose checksum is wrong on purpose"
    return (
        f"survey {folder / 'addresses.txt'} --ask-sizes  # line 7 is wrong on purpose",
        f"survey {places.web}/hides/2031.html --column Recording",
        f"survey {places.web}/archive/ --depth all --tree",
        f"survey {places.web}/news.xml",
        f"survey '{places.contractor}/outbox/level_2031051?.csv'",
        f"survey s3://camera-traps/2031-05/ --endpoint {places.store} --depth all",
        f"survey {places.ssh[0]}/outbox/ {' '.join(places.ssh_options)}",
        f"survey {places.shared}/shared/ --depth all",
        f"survey {places.portal}/catalogue --within-box 4.15,52.0,4.3,52.1",
        f"knock {places.contractor}/outbox/",
        f"load {places.web}/sounds/ --depth all --ask-sizes --cart sounds.csv",
        "pick sounds.csv --only --prefer wav,au",
        "weigh sounds.csv --speed 500kB/s --drives 700kB,700kB",
        f"haul {folder / 'addresses.txt'} --into may --checksums {places.web}/SHA256SUMS {refused}",
        f"haul '{places.web}/recordings/dawn_203105{{03,10,17,24}}.wav' --into dawns",
        "receipt may",
        f"offline {places.web}/guide/ --into guide --depth all  # two links are broken on purpose",
        f"errand {folder / 'report.toml'} --set month=2031-05 --preview",
    )
