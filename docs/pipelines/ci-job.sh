#!/bin/sh
# A job of any CI system: asks for each push what a submission of the folder would
# do; on the main branch (MAIN=yes) submits it; and with RELEASE, such as 2026.11,
# cuts a release of it, brings it to development and staging, and asks production's
# gate. Needs VORRANG_SERVER, VORRANG_TOKEN (of a machine with author@LANE and
# releaser@LANE; reader@LANE is enough for pushes) and a checked-out repository.
set -eu

# Changes nothing. Exit code 3: a number is taken, an applied step was edited, …
vorrang submit -dry-run -dir steps -junit steps.xml

# What a reviewer should know of the new steps. Exit code 3: a finding of severity high is open.
vorrang review -dir steps -sarif findings.sarif
[ -n "${MAIN:-}${RELEASE:-}" ] || exit 0

vorrang submit -dir steps
if [ -z "${RELEASE:-}" ]; then
    vorrang preview -to development >preview.sql   # kept by the CI system, for the reviewers
    exit
fi
vorrang releases "$RELEASE" >/dev/null 2>&1 || vorrang cut "$RELEASE" -dir steps
for environment in development staging; do
    vorrang promote -to "$environment" -release "$RELEASE" -on-failure back-out
done
vorrang verify -env staging -junit verify.xml

# Exit code 3 means that production's gate is held: that is no failure of the
# job, since it now waits for people. Everything else is.
code=0
vorrang gate -to production -release "$RELEASE" -junit gate.xml || code=$?
case $code in
0) echo "production may have $RELEASE: vorrang promote -to production -release $RELEASE" ;;
3) echo "production waits; gate.xml says for what" ;;
*) exit "$code" ;;
esac
