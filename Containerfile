# The program alone, in an image of its own, as a user without rights. Make the binary first:
# ./build.sh release
#
#   podman build --build-arg ARCH=amd64 -t runcrowd .
#   podman run --rm --userns=keep-id -v "$PWD:/work" runcrowd run crowd.yaml
FROM scratch
ARG ARCH=amd64
COPY dist/runcrowd-linux-${ARCH} /runcrowd
# The authorities that platforms' certificates are checked against, where a link names none.
COPY dist/ca-certificates.crt /etc/ssl/certs/ca-certificates.crt
WORKDIR /work
USER 65532:65532
ENTRYPOINT ["/runcrowd"]
