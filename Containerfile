# The program alone, in an image of its own. Make the binary first: ./build.sh release
#
#   podman build --build-arg ARCH=amd64 -t runcrowd .
#   podman run --rm -v "$PWD:/work" runcrowd run crowd.yaml
FROM scratch
ARG ARCH=amd64
COPY dist/runcrowd-linux-${ARCH} /runcrowd
WORKDIR /work
ENTRYPOINT ["/runcrowd"]
