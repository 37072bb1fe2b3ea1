"""Functions stay short and plain: at most 60 lines and 15 branches; no table that the formatter is kept from."""

import ast

import pytest

from tests.conftest import STORIES

SOURCE = STORIES.parent
FILES = sorted(SOURCE.rglob("*.py"))
_BRANCHES = (ast.If, ast.For, ast.While, ast.ExceptHandler, ast.match_case)


def functions(path):
    """Every function of a file, with its own lines and branches (those of functions inside it not counted)."""
    for node in ast.walk(ast.parse(path.read_text("utf-8"))):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
            inner = {
                id(each)
                for other in ast.walk(node)
                if other is not node and isinstance(other, ast.FunctionDef | ast.Lambda)
                for each in ast.walk(other)
            }
            branches = sum(isinstance(each, _BRANCHES) for each in ast.walk(node) if id(each) not in inner)
            yield node.name, node.end_lineno - node.lineno + 1, branches


@pytest.mark.parametrize("path", FILES, ids=lambda path: str(path.relative_to(SOURCE)))
def test_functions_are_short_and_plain(path):
    """Longer ones are split."""
    assert [each for each in functions(path) if each[1] > 60 or each[2] > 15] == []
    assert "# fmt:" not in path.read_text("utf-8")
