# A team's Ivrell. Build the package first: pip wheel --no-deps -w dist . (in a checkout whose page and help are
# built), then: podman build -t ivrell .   (docker build -f Containerfile works too)
FROM docker.io/library/debian:trixie-slim
COPY tools/image.sh dist/ivrell-*.whl /tmp/ivrell/
RUN bash /tmp/ivrell/image.sh /tmp/ivrell /opt/ivrell && rm -rf /tmp/ivrell
ENV IVRELL_DATA=/data IVRELL_LISTEN=0.0.0.0 PATH=/opt/ivrell/bin:$PATH
USER ivrell
VOLUME /data
EXPOSE 8420
STOPSIGNAL SIGTERM
HEALTHCHECK --interval=30s --timeout=5s --start-period=60s CMD ["python3", "-c", "import urllib.request as u; u.urlopen('http://127.0.0.1:8420/help/', timeout=4)"]
CMD ["ivrell", "serve", "--port", "8420", "--no-demo"]
