"""The paper theatre: shots drawn by code, whose clean version, mattes and motions are known."""

from gommage.demo.shot import FIRST_FRAME, FRAMES, DemoShot, make_demo

__all__ = ["FIRST_FRAME", "FRAMES", "DemoShot", "make_demo"]
