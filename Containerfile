# The service in an image: built where compilers are, run where they are not.
FROM node:20-bookworm AS build
WORKDIR /opt/nine-bells
COPY . .
# Compiles sqlite3 for about three minutes, then builds.
RUN node -e "import('./scripts/setUp.mjs').then((made) => made.setUp())" && npm prune --omit=dev --no-audit --no-fund

FROM node:20-bookworm-slim
WORKDIR /opt/nine-bells
COPY --from=build /opt/nine-bells/package.json ./
COPY --from=build /opt/nine-bells/bin ./bin
COPY --from=build /opt/nine-bells/packages ./packages
COPY --from=build /opt/nine-bells/node_modules ./node_modules
RUN useradd --system bells && mkdir /data && chown bells /data
USER bells
VOLUME /data
EXPOSE 9119
ENV NINEBELLS_DATA=/data NINEBELLS_HOST=0.0.0.0
# More room before garbage is collected: fewer pauses, for up to 300 MiB of memory.
CMD ["node", "--max-semi-space-size=32", "--min-semi-space-size=16", "--initial-heap-size=256", "--no-memory-reducer", "bin/ninebells.mjs", "serve", "--config", "/etc/bells.yaml", "--json"]
