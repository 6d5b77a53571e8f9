"""Body: surfaces joined to a solid or an open shell, cut, rounded, hollowed, and afloat."""

from __future__ import annotations

from usual_clay.bench.commands.trace import task_command
from usual_clay.job.items import Body, Surface

BOTH = (Surface, Body)
COMMANDS = (
    task_command("join", "Join faces to a body", "sew stitch solid knit close up", "Body",
                 "puzzle-piece", "Join", BOTH),
    task_command("close", "Close openings", "cap fill hole lid", "Body", "lock-simple", "Close",
                 BOTH),
    task_command("cover", "Cover a loop of edges with one trimmed surface",
                 "fill patch hole n-sided boundary trimmed", short="Cover"),
    task_command("trim", "Trim by curves, planes or surfaces", "cut off", "Body", "scissors",
                 "Trim", BOTH),
    task_command("split", "Split in parts, both sides kept", "cut divide halves", "Body",
                 "columns", "Split", BOTH),
    task_command("pad", "Pad: push an outline along", "extrude boss stock add", "Body",
                 "arrow-fat-lines-up", "Pad"),
    task_command("cut", "Cut: push an outline through a body", "pocket extrude remove slot", "Body",
                 "arrow-fat-lines-down", "Cut", (Body,)),
    task_command("drill", "Drill holes and slots from recognised shapes", "hole bore cylinder",
                 "Body", "circle", "Drill", (Body,)),
    task_command("take away", "Take a body away, or one side of a surface",
                 "subtract difference boolean cut", "Body", "minus-circle", "Take away", (Body,)),
    task_command("shell", "Shell: hollow to a wall", "hollow thickness offset", "Body",
                 "bounding-box", "Shell", (Body,)),
    task_command("round", "Round edges, by radius or by width", "fillet edge blend", "Body",
                 "circle-half", "Round", (Body,)),
    task_command("afloat", "Float: how a body lies in water and rights itself",
                 "hydrostatics buoyancy stability draft trim heel water ballast", "Body", "waves",
                 "Float", (Body,)),
    task_command("bevel", "Bevel edges", "chamfer", short="Bevel", fits=(Body,)),
    task_command("unite", "Unite bodies", "union add boolean merge", short="Unite", fits=(Body,)),
    task_command("intersect", "What bodies have in common", "common boolean", short="Intersect",
                 fits=(Body,)),
    task_command("mirror and unite", "Mirror a body and unite the two", "symmetric half whole",
                 short="Mirror and unite", fits=(Body,)),
    task_command("thicken", "Thicken a surface", "offset solid sheet wall", short="Thicken",
                 fits=BOTH),
)  # fmt: skip
