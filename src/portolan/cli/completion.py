"""`portolan completion`: completion scripts for shells."""

import argparse

from portolan.cli.options import add_command


def register(commands: "argparse._SubParsersAction[argparse.ArgumentParser]") -> None:
    """Adds the command."""
    parser = add_command(
        commands,
        "completion",
        "print a shell's completion script",
        "portolan completion bash > ~/.local/share/bash-completion/completions/portolan",
        "portolan completion zsh > ~/.zfunc/_portolan",
    )
    parser.add_argument("shell", choices=("bash", "zsh", "tcsh"), help="the shell")
    parser.set_defaults(run=run)


def run(arguments: argparse.Namespace) -> int:
    """Prints the script."""
    import shtab

    from portolan.cli.main import parser

    print(shtab.complete(parser(), shell=arguments.shell))
    return 0
