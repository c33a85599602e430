"""Walk the window of the demo rig as a screen reader meets it, step by step, and print what cannot be told.

Run by an interpreter that has GObject introspection, beside a window on the same X screen and session bus. Each step is
reached by the menu's own action; a line for each control in sight that has no name, or a role that says nothing.
"""

import sys
import time

import gi

gi.require_version("Atspi", "2.0")
from gi.repository import Atspi  # noqa: E402 - after its version is told

CONTROLS = {
    "push button", "check box", "combo box", "text", "spin button", "slider", "table", "tree", "tree table", "list",
    "radio button", "toggle button", "entry", "tool button", "menu item", "page tab", "image",
}  # fmt: skip
CONTAINERS = {"filler", "panel", "layered pane"}
SAYS_NOTHING = {"unknown", "invalid"}
DEEPEST, WAIT_S = 30, 60


def below(node, around=(), depth=0):
    """Yield a node and all below it, but the cells of tables, each with the names of what it stands in."""
    yield node, around
    if depth > DEEPEST or node.get_role_name() in ("table", "tree table"):
        return
    for index in range(node.get_child_count()):
        child = node.get_child_at_index(index)
        if child is not None:
            yield from below(child, (*around, node.get_name() or node.get_role_name()), depth + 1)


def window():
    """Return the application's node, waiting until it is there."""
    until = time.monotonic() + WAIT_S
    while time.monotonic() < until:
        desktop = Atspi.get_desktop(0)
        for index in range(desktop.get_child_count()):
            child = desktop.get_child_at_index(index)
            if child is not None and child.get_name().lower() == "wyntaxis" and child.get_child_count():
                return child
        time.sleep(0.2)
    sys.exit("the window has not come")


def unreported(node):
    """Return what is wrong with a control; None where all is told."""
    states = node.get_state_set()
    if not states.contains(Atspi.StateType.SHOWING):
        return None
    role, name = node.get_role_name(), node.get_name() or ""
    focusable = states.contains(Atspi.StateType.FOCUSABLE)
    if (role in CONTROLS or focusable) and not name:
        return f"{role} without a name"
    if focusable and (role in SAYS_NOTHING or (role in CONTAINERS and not node.get_child_count())):
        return f"{name!r} is told as {role!r}"
    return None


def main(steps):
    """Print the untold controls of each step, then how many controls were met."""
    app = window()
    time.sleep(3)
    following = next(node for node, _ in below(app) if node.get_name() == "Next step")
    met = 0
    for step in range(steps):
        for node, around in below(app):
            met += 1
            wrong = unreported(node)
            if wrong is not None:
                print(f"step {step + 1}: {wrong}, in {' > '.join(around[-4:])}")
        following.do_action(0)
        time.sleep(1.5)
    print(f"met {met}")


if __name__ == "__main__":
    main(int(sys.argv[1]))
