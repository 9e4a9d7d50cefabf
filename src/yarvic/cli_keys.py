"""`yarvic keys`: those that sign releases, shown, given to others, taken in and revoked."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from yarvic.cli_words import AsJson, print_json, tell

keys = typer.Typer(help="Keys that sign releases: your own, and those you know.", no_args_is_help=True)


@keys.command("show")
def keys_show(as_json: AsJson = False) -> None:
    """List the keys that are known at this desk, its own among them."""
    from yarvic.state.keys import known_keys

    known = known_keys().keys
    if as_json:
        print_json([{**k.model_dump(mode="json"), "fingerprint": k.fingerprint} for k in known])
        return
    for k in known:
        state = f"revoked {k.revoked}: {k.reason}" if k.revoked else f"until {k.until}"
        tell(f"{k.fingerprint}  {k.name}{', own' if k.own else ''}, since {k.added}, {state}")
    if not known:
        tell("No key is known yet. One is made when somebody signs for the first time.")


@keys.command("write")
def keys_write(name: str, file: Path) -> None:
    """Write a person's public key to a file for others; the key is made at first use."""
    from yarvic.state.keys import write_public

    public = write_public(name, file)
    tell(f"{file}: the public key of {public.name}. Tell them its fingerprint: {public.fingerprint}")


@keys.command("add")
def keys_add(file: Path, fingerprint: Annotated[str, typer.Option(help="As its owner told it.")]) -> None:
    """Add somebody's public key to those that are known, once its owner has confirmed the fingerprint."""
    from yarvic.state.keys import add_key, known_keys, said_of_name

    found = add_key(file, fingerprint)
    for said in said_of_name(found, known_keys()):
        tell(f"Note: {said}")
    tell(f"{found.fingerprint} of {found.name} is known from now on.")


@keys.command("revoke")
def keys_revoke(fingerprint: str, reason: Annotated[str, typer.Option(help="What happened.")]) -> None:
    """Mark a key as revoked from today on: lost, stolen, or no longer to be trusted."""
    from yarvic.state.keys import revoke_key

    revoke_key(fingerprint, reason)
    tell("Revoked. What it signed is said to be so from now on, with the reason.")
