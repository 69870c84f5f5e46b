"""One light for the window and for pictures."""

from __future__ import annotations

from vtkmodules.vtkRenderingCore import vtkLight, vtkRenderer


def lights(renderer: vtkRenderer) -> None:
    """A key from the upper left and a weak fill, both moving with the eye."""
    renderer.RemoveAllLights()
    renderer.AutomaticLightCreationOff()
    for position, strength in (((-0.55, 0.75, 1.2), 0.80), ((1.1, -0.1, 1.0), 0.42)):
        light = vtkLight()
        light.SetLightTypeToCameraLight()
        light.SetPosition(*position)
        light.SetFocalPoint(0.0, 0.0, 0.0)
        light.SetIntensity(strength)
        renderer.AddLight(light)
