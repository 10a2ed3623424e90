"""What is known about each image of a device.

Digests that any source gives for one set of bytes belong together (see `releases`). Of a file:

1. A digest equals a published one and none that belongs with it differs: `proven` by that release,
   whatever the file is called. One that belongs with it differs: `altered`, the pattern of a forged
   collision. Sources disagree on the strongest that both know, or the publisher's digest is
   doubtful: `disputed`, whatever weaker ones say.
2. Its name is a published one: surely smaller than published, `truncated`; another digest or a
   size that cannot be the published one, `altered`, or `disputed` where sources disagree or the
   digest is doubtful; no digest known to both, `unverified`. A name that the listing cut is a
   published one where only one begins so; where several do, it is `unverified`.
3. Else a digest equals one of a list of own copies: `matched`, the same bytes as a copy of ours,
   which no publisher vouches for. Policy may accept that as a proof. A published digest, too, is
   only `matched` where policy requires a signature and no list that gives it has a good one.
4. It looks like an image and no release is known: `unlisted`. Otherwise it is no image.

A set is as good as its worst package; a package that is missing makes it `altered`. A bank that
lists places is judged by those files (a set file among them by its set), and is `altered` where it
lacks a file that its release contains, or mixes two releases; else it is judged by its own digests,
else by version alone, which proves nothing.
"""

from ovek.engine.verdicts.digests import judge_file
from ovek.engine.verdicts.judged import Judge, JudgedDevice, JudgedMember, NamedOn, judge_for
from ovek.engine.verdicts.lookup import (
    CUT,
    cut_files,
    find_file,
    find_image,
    is_empty,
    is_for_hardware,
    several_begin,
    started_places,
)
from ovek.engine.verdicts.proof import ANY_DIGEST, ProofRule, proof_rule
from ovek.engine.verdicts.sets import suits_on
from ovek.engine.verdicts.standing import StandingImage, images_of, standing_images
from ovek.engine.verdicts.verdict_cache import judge_device, rejudge

__all__ = [
    "ANY_DIGEST",
    "CUT",
    "Judge",
    "JudgedDevice",
    "JudgedMember",
    "NamedOn",
    "ProofRule",
    "StandingImage",
    "cut_files",
    "find_file",
    "find_image",
    "images_of",
    "is_empty",
    "is_for_hardware",
    "judge_device",
    "judge_file",
    "judge_for",
    "proof_rule",
    "rejudge",
    "several_begin",
    "standing_images",
    "started_places",
    "suits_on",
]
